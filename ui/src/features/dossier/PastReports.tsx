import type { Schemas } from "@/shared/api/client";
import { MoveBracket } from "@/shared/chart/BracketBar";
import { date, number, signed } from "@/shared/format";
import { Missing } from "@/shared/ui/Missing";
import { Scrolling } from "@/shared/ui/Scrolling";

type Data = Schemas["VolatilityView"];

/** Past reports: what options priced, what the price did, who won; and how good forecasts of volatility were. */
export function PastReports({ data }: { data: Data }) {
  const { reports, forecast: f } = data;
  const won = reports.filter((r) => r.won === "sellers").length;
  const known = reports.filter((r) => r.won !== null).length;
  return (
    <section className="figure reports">
      <header>
        <h2>
          Past reports{" "}
          <span className="aside">
            {known > 0
              ? `priced ±${number(data.average_priced, 1)} %, moved ${number(data.average_moved, 1)} % on average · sellers won ${won} of ${known}`
              : "none in the sessions held"}
          </span>
        </h2>
      </header>
      <Scrolling label="Reports">
        <ReportsTable reports={reports} />
        <p className="forecast-line">
          {f.value === null ? (
            <>No forecast: {f.reason}.</>
          ) : (
            <>
              Forecast for 21 sessions <b>{number(f.value, 1)} %</b>.{" "}
              {f.outcomes > 0 && (
                <span title={`Root mean squared error of ${f.outcomes} forecasts of this name, in points`}>
                  Usual error {number(f.forecast_error, 1)} points; last 21 sessions {number(f.last_error, 1)}, year’s
                  mean {number(f.mean_error, 1)}, implied {number(f.implied_error, 1)}.
                </span>
              )}
            </>
          )}
        </p>
      </Scrolling>
    </section>
  );
}

/** Reports that price has reacted to, newest first: what was priced, what came, and who won. */
export function ReportsTable({ reports }: { reports: Data["reports"] }) {
  const most = Math.max(1, ...reports.flatMap((r) => [1.6 * (r.priced ?? 0), Math.abs(r.moved ?? 0)]));
  if (reports.length === 0) return null;
  return (
    <table>
      <thead>
        <tr>
          <th>Report</th>
          <th title="One standard deviation priced at the last close before">± priced %</th>
          <th>Moved %</th>
          <th title="Size of the move over the one priced">Ratio</th>
          <th title="Sellers, when it moved less than a normal move of that deviation does on average (0.8 of it)">
            Won by
          </th>
          <th aria-label="Move against the one priced" />
        </tr>
      </thead>
      <tbody>
        {reports.map((r) => (
          <tr key={r.session}>
            <th scope="row">
              {date(r.session, true)} <span className="muted">{r.timing === "before_open" ? "open" : "close"}</span>
            </th>
            <td>{r.priced === null ? <Missing why="no move was priced apart" /> : number(r.priced, 1)}</td>
            <td>{r.moved === null ? <Missing why="a session is missing" /> : signed(r.moved, 1)}</td>
            <td>{number(r.ratio, 2)}</td>
            <td>{r.won ?? "–"}</td>
            <td>
              <MoveBracket moved={r.moved} expected={r.priced} span={most} width={88} height={16} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
