import { useCorrelations } from "@/shared/api/queries";
import { DASH, number } from "@/shared/format";
import { Scrolling } from "@/shared/ui/Scrolling";
import { Empty, Failed, Loading } from "@/shared/ui/States";
import type { Row } from "./lines";

const MOST = 40;
const PERIODS = [63, 126, 252, 504];

/** How alike the names moved, with the strongest ties named. */
export function Correlation({
  rows,
  asOf,
  params,
  onWrite,
}: {
  rows: Row[];
  asOf: string | null;
  params: URLSearchParams;
  onWrite: (changes: Record<string, string | null>) => void;
}) {
  const asked = Number(params.get("over"));
  const sessions = PERIODS.includes(asked) ? asked : 126;
  const symbols = rows.slice(0, MOST).map((row) => row.symbol);
  const answer = useCorrelations({ symbols, sessions, as_of: asOf });
  const data = answer.data;
  if (symbols.length < 2)
    return (
      <Empty>
        <p>Two names at least are needed to compare.</p>
      </Empty>
    );
  if (!data) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="returns" />;
  return (
    <div className="lineup-body">
      <p className="correlation-says">
        <span>{data.sentence}</span>
        <label>
          over{" "}
          <select
            aria-label="Sessions of the correlation"
            value={sessions}
            onChange={(event) => onWrite({ over: event.target.value })}
          >
            {PERIODS.map((n) => (
              <option key={n} value={n}>
                {n} sessions
              </option>
            ))}
          </select>
        </label>
        {rows.length > MOST && <span className="muted">the first {MOST} in the order of the list</span>}
      </p>
      <Scrolling label="Correlations" className="correlation">
        <table>
          <thead>
            <tr>
              <th />
              {data.symbols.map((symbol) => (
                <th key={symbol} scope="col">
                  <span>{symbol}</span>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data.symbols.map((symbol, i) => (
              <tr key={symbol}>
                <th scope="row">{symbol}</th>
                {data.symbols.map((other, j) => {
                  const value = data.matrix[i]?.[j] ?? null;
                  if (i === j) return <td key={other} className="self" />;
                  const shade = value === null ? 0 : Math.min(1, Math.abs(value));
                  return (
                    <td
                      key={other}
                      className={value !== null && value < 0 ? "against" : undefined}
                      style={{ "--shade": shade } as React.CSSProperties}
                      title={`${symbol} and ${other}: ${value === null ? "fewer than 42 sessions in common" : number(value, 2)}`}
                    >
                      {value === null ? DASH : number(Math.round(100 * value) || 0)}
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
        <dl className="ties">
          <dt>Strongest ties</dt>
          {data.strongest.map((tie) => (
            <dd key={tie.first + tie.second}>
              {tie.first} and {tie.second} <b>{number(tie.correlation, 2)}</b>
            </dd>
          ))}
          <dt>Weakest</dt>
          {data.weakest.map((tie) => (
            <dd key={tie.first + tie.second}>
              {tie.first} and {tie.second} <b>{number(tie.correlation, 2)}</b>
            </dd>
          ))}
        </dl>
      </Scrolling>
    </div>
  );
}
