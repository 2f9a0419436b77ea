import type { Dossier } from "@/shared/api/client";
import { date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";

const WIDTH = 440;
const HEIGHT = 62;
const INSET = 8;

/** IV rank and IV percentile: two questions about one year, with the year itself laid out beside them. */
export function Standing({ data }: { data: Dossier }) {
  const { standing: s } = data;
  const now = data.newest ? "today" : "that day";
  return (
    <Figure
      title={
        <>
          Where it stands <span className="aside">implied volatility within its own year</span>
        </>
      }
      chart={
        <div className="standing">
          <YearStrip data={data} />
          {s.reason ? (
            <p>Neither rank nor percentile: {s.reason}.</p>
          ) : (
            <dl>
              <div>
                <dt>
                  IV rank <b>{number(s.rank)}</b>
                </dt>
                <dd>
                  {data.newest ? "Today’s" : "That day’s"} {number(s.last, 1)} stands {number(s.rank)} % of the way from
                  the year’s lowest, {number(s.low, 1)} on {s.low_on && date(s.low_on)}, to its highest,{" "}
                  {number(s.high, 1)} on {s.high_on && date(s.high_on)}. One spike can hold it down.
                </dd>
              </div>
              <div>
                <dt>
                  IV percentile <b>{number(s.percentile)}</b>
                </dt>
                <dd>
                  On {number(s.below)} of the previous {number(s.observed - 1)} observed sessions implied volatility was
                  below {now}’s.
                </dd>
              </div>
            </dl>
          )}
        </div>
      }
      table={
        <table>
          <tbody>
            {(
              [
                [`Implied volatility, 30 days, ${now} %`, number(s.last, 1)],
                ["IV rank", number(s.rank)],
                ["IV percentile", number(s.percentile)],
                ["Lowest of the year %", `${number(s.low, 1)}${s.low_on ? ` on ${date(s.low_on, true)}` : ""}`],
                ["Highest of the year %", `${number(s.high, 1)}${s.high_on ? ` on ${date(s.high_on, true)}` : ""}`],
                ["Sessions observed, of 252", number(s.observed)],
                [`Previous sessions below ${now}`, number(s.below)],
              ] as const
            ).map(([label, value]) => (
              <tr key={label}>
                <th scope="row">{label}</th>
                <td>{value}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}

/** Every session of the year as a tick at its volatility: ticks below today are darker, today is the bracket. */
function YearStrip({ data }: { data: Dossier }) {
  const { last, low, high } = data.standing;
  const values = data.year.iv30.filter((v): v is number => v !== null);
  if (low === null || high === null || values.length === 0) return null;
  const span = high - low || 1;
  const x = (value: number) => INSET + ((WIDTH - 2 * INSET) * (value - low)) / span;
  const at = last === null ? null : x(last);
  return (
    <svg className="strip" viewBox={`0 0 ${WIDTH} ${HEIGHT}`} aria-hidden="true">
      {values.map((value, i) => (
        <path
          // biome-ignore lint/suspicious/noArrayIndexKey: a tick is its session
          key={i}
          className={last !== null && value < last ? "tick below" : "tick"}
          d={`M${x(value).toFixed(1)} 20v22`}
        />
      ))}
      <path className="floor" d={`M${INSET} 46H${WIDTH - INSET}`} />
      <text x={INSET} y={59}>
        {number(low, 1)}
      </text>
      <text x={WIDTH - INSET} y={59} textAnchor="end">
        {number(high, 1)}
      </text>
      {at !== null && (
        <>
          <path className="now" d={`M${at - 2} 16h-4v30h4M${at + 2} 16h4v30h-4`} />
          <text x={Math.max(36, Math.min(WIDTH - 36, at))} y={11} textAnchor="middle" className="now-text">
            {data.newest ? "today" : date(data.session)} {number(last, 1)}
          </text>
        </>
      )}
    </svg>
  );
}
