import { useState } from "react";
import type { Schemas } from "@/shared/api/client";
import { useSources } from "@/shared/api/queries";
import { count, DASH, date, number } from "@/shared/format";
import { Link } from "@/shared/route";
import { Failed, Loading } from "@/shared/ui/States";
import { Progress } from "./Progress";
import { useOtherwise } from "./useOtherwise";
import { useWork } from "./useWork";

/** Who tells of each kind, which one is preferred, and where they disagree. */
export function Sources() {
  const answer = useSources();
  const told = answer.data;
  const work = useWork();
  if (!told) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="the sources" />;
  if (told.kinds.length === 0) return null;
  return (
    <section aria-labelledby="sources-title">
      <h2 id="sources-title">Sources</h2>
      <p className="muted">
        Where one source says something else than another, the first one is served and the other kept beside.
      </p>
      <table className="plain-table narrow">
        <tbody>
          {told.kinds.map(({ kind, sources }) => (
            <tr key={kind}>
              <th scope="row" className="words">
                {kind.replaceAll("_", " ")}
              </th>
              {sources.map((one, place) => (
                <td key={one.source} className="words">
                  {number(place + 1)}. {one.source}
                  {one.beside > 0 && <span className="muted"> ({number(one.beside)} beside)</span>}{" "}
                  {place > 0 && told.market !== "demo" && (
                    <button
                      type="button"
                      className="quiet"
                      disabled={work.isPending}
                      aria-label={`prefer ${one.source} for ${kind.replaceAll("_", " ")}`}
                      onClick={() =>
                        work.mutate({
                          prefer: kind,
                          order: [
                            one.source,
                            ...sources.map((other) => other.source).filter((who) => who !== one.source),
                          ],
                        })
                      }
                    >
                      prefer {one.source}
                    </button>
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {work.told && <Progress {...work.told} />}
      {work.error && <p role="alert">{work.error.message}</p>}
      <h3>Disagreements of more than {number(100 * told.tolerance, 1)} %</h3>
      {told.disagreements.length === 0 && <p className="muted">There are none.</p>}
      {told.disagreements.map((one) => (
        <Differing key={`${one.kind} ${one.column} ${one.served_by} ${one.other}`} one={one} />
      ))}
    </section>
  );
}

function Differing({ one }: { one: Schemas["DisagreementRow"] }) {
  const [open, setOpen] = useState(false);
  const screens = useOtherwise(one.kind, one.other);
  return (
    <article className="differing" aria-label={`${one.kind.replaceAll("_", " ")}: ${one.column}`}>
      <p>
        <b>
          {one.kind.replaceAll("_", " ")}: {one.column}
        </b>{" "}
        {one.served_by} is served, {one.other} says otherwise {count(one.times, "time")} on {count(one.names, "name")},
        from {date(one.first, true)} to {date(one.last, true)}.{" "}
        <button type="button" className="quiet" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "close" : "the widest"}
        </button>{" "}
        <button
          type="button"
          className="quiet"
          disabled={screens.isPending}
          title={`Run every screen with what ${one.other} says in place of ${one.served_by}; nothing is changed`}
          onClick={() => screens.mutate()}
        >
          which screens would answer otherwise?
        </button>
      </p>
      {screens.told && <Progress {...screens.told} />}
      {screens.error && <p role="alert">{screens.error.message}</p>}
      {screens.data && <Otherwise told={screens.data} source={one.other} />}
      {open && (
        <table className="plain-table narrow">
          <thead>
            <tr>
              <th className="words">Name</th>
              <th className="words">Day</th>
              <th>{one.served_by}</th>
              <th>{one.other}</th>
              <th>Apart %</th>
            </tr>
          </thead>
          <tbody>
            {one.widest.map((value) => (
              <tr key={`${value.symbol} ${value.day}`}>
                <th scope="row" className="words">
                  <Link to={`/dossier/${value.symbol}`}>{value.symbol}</Link>
                </th>
                <td className="words">{date(value.day, true)}</td>
                <td>{value.served}</td>
                <td>{value.other}</td>
                <td>{value.apart === null ? DASH : number(100 * value.apart, 1)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </article>
  );
}

/** The screens that would answer otherwise, with the names that would come and go. */
function Otherwise({ told, source }: { told: Schemas["OtherwiseReply"]; source: string }) {
  const unread = told.unread > 0 ? `; ${count(told.unread, "screen")} could not be read` : "";
  return (
    <div role="status">
      <p>
        With {count(told.values, "value")} of {source},{" "}
        {told.screens.length === 0 ? "none" : number(told.screens.length)} of {count(told.looked_at, "screen")} would
        answer otherwise{unread}.
      </p>
      {told.screens.length > 0 && (
        <table className="plain-table narrow">
          <thead>
            <tr>
              <th className="words">Screen</th>
              <th>Names</th>
              <th className="words">Would come</th>
              <th className="words">Would go</th>
            </tr>
          </thead>
          <tbody>
            {told.screens.map((screen) => (
              <tr key={screen.key}>
                <th scope="row" className="words">
                  <Link to={`/screen?screen=${screen.key}`}>{screen.name}</Link>
                  {screen.saved && <span className="muted"> yours</span>}
                </th>
                <td>{number(screen.names)}</td>
                <td className="words">{screen.came.join(", ") || DASH}</td>
                <td className="words">
                  {screen.went.join(", ") || DASH}
                  {screen.more > 0 && <span className="muted"> and {number(screen.more)} more</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
