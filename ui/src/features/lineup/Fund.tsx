import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { chartBase, monthAxis, type Palette, sessionTooltip, usePalette, valueAxis } from "@/shared/chart/palette";
import { hollowLine } from "@/shared/chart/series";
import { told } from "@/shared/chart/told";
import { date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";

type Part = Schemas["FundPart"];

/** A fund against its members: how alike they are priced to move and how alike they moved. */
export function Fund({ fund }: { fund: Part }) {
  const palette = usePalette();
  const correlation = useMemo(
    () => makeOption(fund, fund.implied_correlation, fund.realised_correlation, 2, "", palette),
    [fund, palette],
  );
  const vols = useMemo(() => makeOption(fund, fund.iv30, fund.members_iv30, 1, " %", palette), [fund, palette]);
  const table = (
    <table>
      <thead>
        <tr>
          <th>Session</th>
          <th>Implied correlation</th>
          <th>Realised, 63 sessions</th>
          <th>{fund.symbol} IV %</th>
          <th>Members’ IV %</th>
        </tr>
      </thead>
      <tbody>
        {fund.sessions
          .map((session, i) => ({ session, i }))
          .reverse()
          .map(({ session, i }) => (
            <tr key={session}>
              <td>{date(session, true)}</td>
              <td>{number(fund.implied_correlation[i], 2)}</td>
              <td>{number(fund.realised_correlation[i], 2)}</td>
              <td>{number(fund.iv30[i], 1)}</td>
              <td>{number(fund.members_iv30[i], 1)}</td>
            </tr>
          ))}
      </tbody>
    </table>
  );
  return (
    <div className="fund-part">
      <p className="fund-says">{fund.sentence}</p>
      <Figure
        title={
          <>
            Correlation of the members <span className="aside">hollow: implied · solid: realised over 63 sessions</span>
          </>
        }
        chart={
          <EChart option={correlation} label={`Implied and realised correlation of the members of ${fund.symbol}`} />
        }
        table={table}
      />
      <Figure
        title={
          <>
            {fund.symbol} against its members{" "}
            <span className="aside">hollow: the fund’s 30-day IV · solid: weighted mean of the members’</span>
          </>
        }
        chart={<EChart option={vols} label={`Implied volatility of ${fund.symbol} and of its members`} />}
        table={table}
      />
    </div>
  );
}

function makeOption(
  fund: Part,
  priced: (number | null)[],
  other: (number | null)[],
  decimals: number,
  unit: string,
  c: Palette,
): EChartsCoreOption {
  const base = chartBase(c);
  return {
    ...base,
    grid: { left: 46, right: 14, top: 12, bottom: 24 },
    tooltip: sessionTooltip<{ dataIndex: number }>(c, (points) => {
      const i = points[0]?.dataIndex ?? 0;
      return told(
        date(fund.sessions[i] ?? "", true),
        `hollow ${number(priced[i], decimals)}${unit}`,
        `solid ${number(other[i], decimals)}${unit}`,
      );
    }),
    xAxis: monthAxis(fund.sessions, c),
    yAxis: valueAxis(c, { scale: true }),
    series: [
      { type: "line", data: other, symbol: "none", z: 2, lineStyle: { color: c.solid, width: 2 } },
      ...hollowLine(priced, c),
    ],
  };
}
