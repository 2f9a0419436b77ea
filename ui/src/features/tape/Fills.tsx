import { useFills } from "@/shared/api/queries";
import { clock, number } from "@/shared/format";
import { Failed, Loading } from "@/shared/ui/States";
import type { TicketRow } from "./columns";

/** The fills of a ticket, and what it is part of in words. */
export function Fills({ ticket, asOf, until }: { ticket: TicketRow; asOf: string | null; until: string | null }) {
  const answer = useFills(ticket.symbol, {
    session: ticket.session,
    place: ticket.place,
    ...(asOf && { as_of: asOf }),
    ...(until && { until }),
  });
  const data = answer.data;
  return (
    <div className="fills">
      {ticket.roll && <p>{ticket.roll}</p>}
      {ticket.package && <p>{ticket.package}</p>}
      {!data ? (
        answer.failureReason ? (
          <Failed error={answer.failureReason} />
        ) : (
          <Loading what="its fills" />
        )
      ) : (
        <table>
          <thead>
            <tr>
              <th>Time</th>
              <th>Venue</th>
              <th>Contracts</th>
              <th>Paid $</th>
              <th>Bid $</th>
              <th>Ask $</th>
            </tr>
          </thead>
          <tbody>
            {data.fills.map((fill, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: fills have no other identity than their place
              <tr key={i}>
                <th scope="row">
                  {clock(fill.at)}.{String(new Date(fill.at).getMilliseconds()).padStart(3, "0")}
                </th>
                <td>{fill.venue}</td>
                <td>{number(fill.contracts)}</td>
                <td>{number(fill.price, 2)}</td>
                <td>{number(fill.bid, 2)}</td>
                <td>{number(fill.ask, 2)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {data && data.fills.length < data.total && (
        <p className="muted">
          The first {data.fills.length} of {number(data.total)}.
        </p>
      )}
    </div>
  );
}
