import type { Dossier, Schemas } from "@/shared/api/client";
import { MoveBracket } from "@/shared/chart/BracketBar";
import { date, number } from "@/shared/format";
import { Missing } from "@/shared/ui/Missing";
import { Scrolling } from "@/shared/ui/Scrolling";

/** Expected move to each listed expiration, with the straddle beside it. */
export function MovesTable({ data }: { data: Dossier }) {
  const most = Math.max(1, ...data.expiries.filter((row) => row.days <= 120).map((row) => row.move_pct ?? 0));
  return (
    <section className="figure moves">
      <header>
        <h2>
          Expected move <span className="aside">one standard deviation to each expiration</span>
        </h2>
      </header>
      <Scrolling label="Moves">
        <table>
          <thead>
            <tr>
              <th title="Expiration; m marks a monthly, E earnings inside">Expiration</th>
              <th>Days</th>
              <th>IV %</th>
              <th title="Price × volatility × √years">± $</th>
              <th>± %</th>
              <th>From</th>
              <th>To</th>
              <th title="At-the-money straddle, mid, at the strike nearest the forward">Straddle $</th>
              <th>%</th>
              <th aria-label="Expected move, drawn" />
            </tr>
          </thead>
          <tbody>
            {data.expiries.map((row) => (
              <Line key={row.expiration} row={row} most={most} />
            ))}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}

function Line({ row, most }: { row: Schemas["ExpiryRow"]; most: number }) {
  const year = row.days > 300;
  return (
    <tr className={row.monthly ? "monthly" : undefined} title={row.reason ?? undefined}>
      <th scope="row">
        {date(row.expiration, year)}
        {row.monthly && <abbr title="Monthly expiration"> m</abbr>}
        {row.earnings_inside && <abbr title="Earnings are reported before this expiration"> E</abbr>}
      </th>
      <td>{row.days}</td>
      <td>{row.vol === null ? <Missing why={row.reason} /> : number(row.vol, 1)}</td>
      <td>{number(row.move, 2)}</td>
      <td>{number(row.move_pct, 1)}</td>
      <td>{number(row.lower, 2)}</td>
      <td>{number(row.upper, 2)}</td>
      <td title={row.straddle_strike === null ? undefined : `at strike ${number(row.straddle_strike, 2)}`}>
        {number(row.straddle, 2)}
      </td>
      <td>{number(row.straddle_pct, 1)}</td>
      <td>
        {row.move_pct !== null && (
          <MoveBracket moved={null} expected={row.move_pct} span={most} width={64} height={16} />
        )}
      </td>
    </tr>
  );
}
