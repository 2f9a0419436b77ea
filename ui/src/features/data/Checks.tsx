import { useState } from "react";
import type { Schemas } from "@/shared/api/client";
import { useChecks } from "@/shared/api/queries";
import { count, DASH, date, number } from "@/shared/format";
import { Link } from "@/shared/route";
import { Failed, Loading } from "@/shared/ui/States";
import { Progress } from "./Progress";
import { useWork } from "./useWork";

const SHOWN = 5;

/** What is likely wrong with what is loaded, where, and what can be done about it. */
export function Checks() {
  const answer = useChecks();
  const told = answer.data;
  if (!told) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="the checks" />;
  return (
    <section aria-labelledby="checks-title">
      <h2 id="checks-title">Checks</h2>
      {told.findings.length === 0 && <p className="muted">Nothing of what is loaded looks wrong.</p>}
      {told.findings.map((finding) => (
        <Finding key={finding.check} finding={finding} own={told.market !== "demo"} />
      ))}
    </section>
  );
}

function Finding({ finding, own }: { finding: Schemas["CheckFinding"]; own: boolean }) {
  const [all, setAll] = useState(false);
  const work = useWork();
  const shown = finding.examples.slice(0, all ? undefined : SHOWN);
  return (
    <article className="finding" aria-label={finding.words}>
      <header>
        <h3>{finding.words}</h3>
        <span className="muted">
          {finding.kind.replaceAll("_", " ")}, {count(finding.times, "time")}
        </span>
        {finding.mend && own && !finding.each && (
          <button
            type="button"
            className="plain"
            disabled={work.isPending}
            title="It is kept with what was loaded, and can be undone there"
            onClick={() => work.mutate({ mend: finding.check, at: { symbol: null, day: null } })}
          >
            {finding.mend}
          </button>
        )}
      </header>
      {work.told && <Progress {...work.told} />}
      {work.error && <p role="alert">{work.error.message}</p>}
      <table className="plain-table narrow">
        <tbody>
          {shown.map((one) => (
            <tr key={`${one.symbol} ${one.day}`}>
              <th scope="row" className="words">
                {one.symbol === "?" ? "all names" : <Link to={`/dossier/${one.symbol}`}>{one.symbol}</Link>}
              </th>
              <td className="words">{one.day ? date(one.day, true) : DASH}</td>
              <td className="words">{one.words}</td>
              {finding.mend && own && finding.each && (
                <td>
                  <button
                    type="button"
                    className="quiet"
                    disabled={work.isPending}
                    aria-label={`${one.symbol}: ${finding.mend}`}
                    onClick={() => work.mutate({ mend: finding.check, at: { symbol: one.symbol, day: one.day } })}
                  >
                    {finding.mend}
                  </button>
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      {finding.examples.length > SHOWN && !all && (
        <button type="button" className="quiet" onClick={() => setAll(true)}>
          {finding.times > finding.examples.length
            ? `the first ${number(finding.examples.length)}`
            : `all ${number(finding.times)}`}
        </button>
      )}
    </article>
  );
}
