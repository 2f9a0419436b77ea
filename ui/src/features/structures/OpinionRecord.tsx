import type { Schemas } from "@/shared/api/client";
import { useOpinionRecord } from "@/shared/api/queries";
import { ChanceLines } from "@/shared/chart/ChanceLines";
import { count, date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { Scrolling } from "@/shared/ui/Scrolling";
import { Failed, Loading } from "@/shared/ui/States";

type Told = Schemas["Told"];
const WORDS: Record<string, string> = { market: "market", past: "own past", forecast: "forecast" };
const TENTHS = [0, 1, 2, 3, 4, 5, 6, 7, 8, 9];
const NAMES = ["market", "past", "forecast"];

/** How good the opinions were, of one name where it has enough, and of all. */
export function OpinionRecord({ symbol, asOf }: { symbol: string | null; asOf: string | null }) {
  const answer = useOpinionRecord(symbol, asOf);
  const data = answer.data;
  if (!data)
    return answer.failureReason ? (
      <Failed error={answer.failureReason} />
    ) : (
      <Loading what="what was said and what came" />
    );
  return (
    <Scrolling label="What was said and what came" className="opinion-record">
      {symbol && !data.name && <p className="muted">Of {symbol} alone there are too few cases to say.</p>}
      {data.name && <One told={data.name} title={`What was said of ${data.symbol}, and what came`} />}
      <One told={data.market} title="What was said of all names, and what came" />
      <p className="caption">
        Every {number(data.every)}th session from {data.first && date(data.first, true)} to{" "}
        {data.last && date(data.last, true)}: each expiration 4 to 50 days ahead, by what was known then. The score is
        the mean squared distance between what was said and what came (Brier); less is better.
      </p>
    </Scrolling>
  );
}

function One({ told, title }: { told: Told; title: string }) {
  return (
    <section>
      <h3>{title}</h3>
      <p>
        {count(told.cases, "expiration")} in {count(told.sessions, "session")}.{" "}
        {told.opinions.map((one) => `${WORDS[one.opinion]} ${number(one.score, 4)}`).join(", ")}.{" "}
        {told.nearest && told.lead ? (
          <>
            Nearest was <b>{WORDS[told.nearest]}</b>, by {number(told.lead.value, 4)} ({number(told.lead.low, 4)} to{" "}
            {number(told.lead.high, 4)}, 95 %).
          </>
        ) : (
          "None was nearer than chance explains."
        )}
      </p>
      <Figure
        title="What was said, and what came"
        className="reliability"
        controls={
          <span className="muted">
            {NAMES.map((name) => (
              <span key={name}>
                <span className={`opinion-mark ${name}`} aria-hidden="true" /> {WORDS[name]}{" "}
              </span>
            ))}
          </span>
        }
        chart={<ChanceLines lines={linesOf(told)} label={`${title}: chances said against how often it came`} />}
        table={<Tables told={told} />}
      />
    </section>
  );
}

const LEAST = 30;

/** Tenths of the chances that rest on enough cases. */
const linesOf = (told: Told) =>
  told.opinions.map((one) => ({
    key: one.opinion,
    label: WORDS[one.opinion] ?? "",
    points: one.tenths.flatMap(({ said, came, cases }) =>
      said === null || came === null || cases < LEAST ? [] : [{ said, came, cases }],
    ),
  }));

function Tables({ told }: { told: Told }) {
  return (
    <div className="record-tables">
      <table className="plain-table">
        <caption>Ended within … expected moves</caption>
        <thead>
          <tr>
            <th>σ</th>
            <th>
              Came <span className="unit">%</span>
            </th>
            {NAMES.map((name) => (
              <th key={name}>
                <span className={`opinion-mark ${name}`} aria-hidden="true" /> {WORDS[name]}{" "}
                <span className="unit">%</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {told.bands.map((line) => (
            <tr key={line.band}>
              <th scope="row">±{number(line.band, 2)}</th>
              <td>
                <b>{number(line.came, 1)}</b>
              </td>
              {line.said.map((said, i) => (
                <td key={NAMES[i]}>{number(said, 1)}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <table className="plain-table">
        <caption>When it was said, how often it came</caption>
        <thead>
          <tr>
            <th>Said</th>
            {told.opinions.map((one) => (
              <th key={one.opinion}>
                <span className={`opinion-mark ${one.opinion}`} aria-hidden="true" /> {WORDS[one.opinion]}{" "}
                <span className="unit">%</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {TENTHS.map((tenth) => (
            <tr key={tenth}>
              <th scope="row">
                {10 * tenth}–{10 * tenth + 10} %
              </th>
              {told.opinions.map((one) => {
                const at = one.tenths[tenth];
                return (
                  <td key={one.opinion} title={at ? `said ${number(at.said, 1)} %, ${count(at.cases, "case")}` : ""}>
                    {at && at.cases >= LEAST ? number(at.came, 1) : <span className="muted">too few</span>}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
