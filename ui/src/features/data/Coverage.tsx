import { useState } from "react";
import type { Schemas } from "@/shared/api/client";
import { useCoverage } from "@/shared/api/queries";
import { count, date, number } from "@/shared/format";
import { Link } from "@/shared/route";
import { Failed } from "@/shared/ui/States";

const SHOWN = 24;
const HEIGHT = 44;

/** Which names have data of which of the newest sessions: a hole is where nothing is drawn. */
export function Coverage() {
  const [kind, setKind] = useState("daily_bars");
  const [all, setAll] = useState(false);
  const answer = useCoverage(kind);
  const told = answer.data;
  return (
    <section aria-labelledby="coverage-title">
      <h2 id="coverage-title">
        Coverage of{" "}
        <select aria-label="Kind" value={kind} onChange={(event) => setKind(event.target.value)}>
          {(told?.kinds ?? [kind]).map((one) => (
            <option key={one} value={one}>
              {one.replaceAll("_", " ")}
            </option>
          ))}
        </select>
      </h2>
      {!told && answer.failureReason && <Failed error={answer.failureReason} />}
      {told && told.sessions.length === 0 && <p className="muted">There are none.</p>}
      {told && told.sessions.length > 0 && (
        <>
          <p>{summary(told)}</p>
          <div className="coverage">
            <Counts told={told} />
            <p className="ends muted">
              <span>{date(told.sessions[0] ?? "", true)}</span>
              <span>{date(told.sessions.at(-1) ?? "", true)}</span>
            </p>
            {told.holes.slice(0, all ? undefined : SHOWN).map((one) => (
              <div key={one.symbol} className="strip">
                <Link to={`/dossier/${one.symbol}`}>{one.symbol}</Link>
                <Strip spans={one.spans} sessions={told.sessions} symbol={one.symbol} />
                <span className="muted">{count(one.lacks, "session")} missing</span>
              </div>
            ))}
          </div>
          {told.holes.length > SHOWN && !all && (
            <button type="button" className="quiet" onClick={() => setAll(true)}>
              all {number(told.holes.length)} of them
            </button>
          )}
          {told.more > 0 && all && <p className="muted">{count(told.more, "name")} more lack less.</p>}
        </>
      )}
    </section>
  );
}

function summary({ names, whole, sessions, holes }: Schemas["CoverageReply"]): string {
  const many = `${count(names, "name")} in the newest ${count(sessions.length, "session")}`;
  return holes.length === 0 ? `${many}, without a hole.` : `${many}; ${number(whole)} of them without a hole.`;
}

/** How many names each session has. */
function Counts({ told }: { told: Schemas["CoverageReply"] }) {
  const most = Math.max(...told.counts, 1);
  const width = 1000 / told.sessions.length;
  const least = Math.min(...told.counts);
  return (
    <svg
      className="counts"
      viewBox={`0 0 1000 ${HEIGHT}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`Names by session: between ${number(least)} and ${number(most)}`}
    >
      {told.sessions.map((session, place) => {
        const names = told.counts[place] ?? 0;
        const lacking = told.lacking[place] ?? 0;
        const height = (names / most) * (HEIGHT - 2);
        return (
          <rect
            key={session}
            className={lacking > 0 ? "fewer" : undefined}
            x={place * width}
            y={HEIGHT - height}
            width={width * 0.86}
            height={height}
          >
            <title>{`${date(session, true)}: ${count(names, "name")}, ${number(lacking)} missing`}</title>
          </rect>
        );
      })}
    </svg>
  );
}

/** The stretches of a name: holes stay empty. */
function Strip({ spans, sessions, symbol }: { spans: Schemas["HeldSpan"][]; sessions: string[]; symbol: string }) {
  const words = spans
    .map(({ first, last }) => `${date(sessions[first] ?? "")} to ${date(sessions[last] ?? "")}`)
    .join(", ");
  return (
    <svg
      viewBox={`0 0 ${sessions.length} 1`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`${symbol} is there from ${words}`}
    >
      <title>{words}</title>
      {spans.map(({ first, last }) => (
        <rect key={first} x={first} y={0} width={last - first + 1} height={1} />
      ))}
    </svg>
  );
}
