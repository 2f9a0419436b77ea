import { useState } from "react";
import type { Schemas } from "@/shared/api/client";
import { clock, compact, count, number } from "@/shared/format";
import { Missing } from "@/shared/ui/Missing";
import { Scrolling } from "@/shared/ui/Scrolling";
import { ContractName, leans } from "@/shared/ui/ticketWords";

type Data = Schemas["TapeView"];
type Ticket = Schemas["TicketRow"];

const SIDES: Record<string, string> = { "1": "ask", "-1": "bid", "0": "mid" };

/** The largest tickets by premium, each with its fills on request. */
export function LargestTickets({ data, onContract }: { data: Data; onContract: (ticket: Ticket) => void }) {
  const [open, setOpen] = useState<string | null>(null);
  return (
    <section className="figure tickets">
      <header>
        <h2>
          Largest tickets{" "}
          <span className="aside">
            {data.tickets.length < data.tickets_total
              ? `${data.tickets.length} of ${number(data.tickets_total)} by premium`
              : "by premium"}
          </span>
        </h2>
      </header>
      <Scrolling label="Largest tickets">
        <table>
          <thead>
            <tr>
              <th>At</th>
              <th>Contract</th>
              <th title="Fills taken to be one decision">Kind</th>
              <th title="Where in the quote it traded">Side</th>
              <th title="Contracts">Size</th>
              <th title="Price a share, weighted by contracts">Price</th>
              <th title="Price times contracts times shares a contract">Premium $</th>
              <th title="Whether it opened: confirmed by the next morning, certain by volume over open interest, likely by its size">
                Opens
              </th>
              <th>Leans</th>
              <th title="How far price has gone since, in one-day expected moves, in the direction of the lean">
                Since
              </th>
            </tr>
          </thead>
          <tbody>
            {data.tickets.map((t) => {
              const key = `${t.at} ${t.expiration} ${t.strike} ${t.is_call} ${t.side}`;
              return (
                <Row
                  key={key}
                  ticket={t}
                  open={open === key}
                  data={data}
                  onOpen={() => setOpen(open === key ? null : key)}
                  onContract={onContract}
                />
              );
            })}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}

function Row({
  ticket: t,
  data,
  open,
  onOpen,
  onContract,
}: {
  ticket: Ticket;
  data: Data;
  open: boolean;
  onOpen: () => void;
  onContract: (ticket: Ticket) => void;
}) {
  const part = t.package === null ? null : data.packages[t.package]?.form;
  return (
    <>
      <tr className={open ? "open" : undefined}>
        <td>
          <button type="button" className="link" aria-expanded={open} title="Its fills" onClick={onOpen}>
            {clock(t.at)}
          </button>
        </td>
        <th scope="row">
          <button type="button" className="link" title="Its row in the chain" onClick={() => onContract(t)}>
            <ContractName contract={t} />
          </button>
        </th>
        <td>
          {t.kind}
          {t.package !== null && <abbr title={`A leg of a ${part ?? "package"}: judged with the others`}> leg</abbr>}
          {t.roll && <abbr title={t.roll}> roll</abbr>}
        </td>
        <td>{SIDES[String(t.side)]}</td>
        <td>{number(t.contracts)}</td>
        <td>{number(t.price, 2)}</td>
        <td>{compact(t.premium)}</td>
        <td className={t.opening === "unknown" ? "muted" : undefined}>{t.opening}</td>
        <td>{leans(t.lean)}</td>
        <td>
          {t.since === null ? (
            <Missing why={t.lean === 0 ? "it leans nowhere" : "no expected move was priced"} />
          ) : (
            number(t.since, 2)
          )}
        </td>
      </tr>
      {open && (
        <tr className="fills">
          <td colSpan={10}>
            <p>
              {count(t.fill_count, "fill")}
              {t.seconds > 0 && ` in ${number(t.seconds, 1)} s`}, stock at {number(t.spot, 2)}
              {t.away_pct !== null &&
                `, ${number(Math.abs(t.away_pct), 1)} % ${t.away_pct >= 0 ? "out of" : "in"} the money`}
              {t.shares !== null && `, worth ${number(t.shares)} shares`}.{t.roll && ` It ${t.roll}.`}
            </p>
            <ol>
              {t.fills.map((f, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: the fills of one ticket do not move
                <li key={i}>
                  {clock(f.at)} {f.venue}: {number(f.contracts)} at {number(f.price, 2)}{" "}
                  <span className="muted">
                    quoted {number(f.bid, 2)} to {number(f.ask, 2)}
                  </span>
                </li>
              ))}
            </ol>
            {t.fill_count > t.fills.length && <p className="muted">and {number(t.fill_count - t.fills.length)} more</p>}
          </td>
        </tr>
      )}
    </>
  );
}
