import type { Schemas } from "@/shared/api/client";
import { useLines, useTape } from "@/shared/api/queries";
import { clock, compact, count, date, number, signed, signedCompact } from "@/shared/format";
import { Missing } from "@/shared/ui/Missing";
import { Scrolling } from "@/shared/ui/Scrolling";
import { Failed, Loading, NotKept } from "@/shared/ui/States";
import { ContractName, leans } from "@/shared/ui/ticketWords";
import { LargestTickets } from "./LargestTickets";
import { PremiumStrip } from "./PremiumStrip";
import type { PartProps, Write } from "./part";
import { TapeFigure } from "./TapeFigure";

type Data = Schemas["TapeView"];
type Contract = Schemas["ContractTotal"];

/** One name's option trades of a session: when they came, what they were, and what price did since. */
export function TapePart({ symbol, at, params, onWrite }: PartProps) {
  const asked = params.get("traded");
  const session = asked && /^\d{4}-\d\d-\d\d$/.test(asked) ? { session: asked } : {};
  const answer = useTape(symbol, { ...at, ...session });
  const data = answer.data;
  const { lines } = useLines(symbol, at);
  if (!data) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="the tape" />;
  const toChain = (contract: { strike: number; expiration: string }) =>
    onWrite({ view: "chain", expiration: contract.expiration, strike: String(contract.strike) });
  return (
    <div className="dossier-body tape" aria-busy={answer.isPlaceholderData}>
      <div className="dossier-column">
        <Says data={data} onWrite={onWrite} />
        {data.tickets.length > 0 && <TapeFigure data={data} lines={lines} />}
        {data.history.length > 1 && <PremiumStrip data={data} />}
        {data.packages.length > 0 && <Packages data={data} />}
      </div>
      <div className="dossier-column">
        {data.tickets.length > 0 && <LargestTickets data={data} onContract={toChain} />}
        {data.contracts.length > 0 && <Contracts data={data} onContract={toChain} />}
      </div>
    </div>
  );
}

function Says({ data, onWrite }: { data: Data; onWrite: Write }) {
  const shares = data.lean_shares;
  return (
    <section className="figure tape-says">
      <header>
        <h2>
          Option trades{" "}
          {!data.reason && (
            <span className="aside">
              {count(data.tickets_total, "ticket")}, ${compact(data.premium)}
            </span>
          )}
        </h2>
        <label className="figure-controls">
          of{" "}
          <select
            aria-label="Session of the trades"
            value={data.session}
            onChange={(event) => onWrite({ traded: event.target.value })}
          >
            {[...new Set([...data.sessions, data.session])].sort().map((day) => (
              <option key={day} value={day}>
                {date(day)}
              </option>
            ))}
          </select>
        </label>
      </header>
      {data.reason ? (
        <NotKept what="Option trades" kind="option_trades">
          Nothing to show: {data.reason}.
        </NotKept>
      ) : (
        <p>
          What leans comes to <b>{signedCompact(Math.round(shares))}</b> shares
          {data.lean_shares_pct !== null && (
            <>
              {" "}
              (<b>{signed(data.lean_shares_pct, 1)} %</b> of a usual day’s volume)
            </>
          )}
          : bought calls and sold puts lean up, the others down.{" "}
          <span className="muted">A trade’s lean is no view of its owner: what it hedges is not known.</span>
          {data.doubts.length > 0 && (
            <span className="muted">
              {" "}
              Of the fills {data.doubts.join(", ")}
              {data.left_out > 0 &&
                `; ${number(data.left_out)} of them ${data.left_out === 1 ? "does" : "do"} not count`}
              .
            </span>
          )}
        </p>
      )}
    </section>
  );
}

function Contracts({ data, onContract }: { data: Data; onContract: (contract: Contract) => void }) {
  return (
    <section className="figure contracts">
      <header>
        <h2>
          Busiest contracts{" "}
          <span className="aside">
            {data.contracts.length < data.contracts_total
              ? `${data.contracts.length} of ${number(data.contracts_total)} by premium`
              : "by premium"}
          </span>
        </h2>
      </header>
      <Scrolling label="Busiest contracts">
        <table>
          <thead>
            <tr>
              <th>Contract</th>
              <th title="Price times contracts times shares a contract">Premium $</th>
              <th>Tickets</th>
              <th title="Contracts traded">Vol</th>
              <th title="Open interest of the morning">OI</th>
              <th title="Open interest of the next morning less that of this one">Opened</th>
              <th title="Contracts on the ask side over all whose side is known">Ask %</th>
            </tr>
          </thead>
          <tbody>
            {data.contracts.map((c) => (
              <tr key={`${c.expiration} ${c.strike} ${c.is_call}`}>
                <th scope="row">
                  <button type="button" className="link" title="Its row in the chain" onClick={() => onContract(c)}>
                    <ContractName contract={c} />
                  </button>
                </th>
                <td>{compact(c.premium)}</td>
                <td>{number(c.tickets)}</td>
                <td>{compact(c.volume)}</td>
                <td>{compact(c.open_interest)}</td>
                <td>
                  {c.opened === null ? (
                    <Missing why={data.next_known ? "it is not listed any more" : "known the next morning"} />
                  ) : (
                    <>
                      {signedCompact(c.opened)}
                      {c.small_base ? (
                        <abbr title="From a base under 100 contracts: percent would mislead"> small</abbr>
                      ) : (
                        c.opened_pct !== null && <small> {signed(c.opened_pct, 0)} %</small>
                      )}
                    </>
                  )}
                </td>
                <td>{c.ask_share_pct === null ? <Missing why="no side is known" /> : number(c.ask_share_pct)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}

function Packages({ data }: { data: Data }) {
  return (
    <section className="figure packages">
      <header>
        <h2>
          Packages{" "}
          <span className="aside" title="Several contracts within a tenth of a second, in sizes that fit together">
            {data.packages.length < data.packages_total
              ? `${data.packages.length} of ${number(data.packages_total)}`
              : "judged as a whole"}
            {data.paired.length > 0 && `; ${data.paired.join(" and ")}`}
          </span>
        </h2>
      </header>
      <Scrolling label="Packages">
        <table>
          <thead>
            <tr>
              <th>At</th>
              <th>What</th>
              <th>Legs</th>
              <th title="Paid less received">Net $</th>
              <th>Leans</th>
            </tr>
          </thead>
          <tbody>
            {data.packages.map((p) => (
              <tr key={`${p.at} ${p.legs.join()}`}>
                <td>{clock(p.at)}</td>
                <th scope="row">{p.form}</th>
                <td className="words">{p.legs.join(", ")}</td>
                <td>{signedCompact(Math.round(p.premium))}</td>
                <td>{leans(p.lean)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}
