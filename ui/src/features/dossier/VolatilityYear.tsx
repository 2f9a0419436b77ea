import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Dossier, DossierRequest } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { chartBase, monthAxis, type Palette, sessionTooltip, usePalette, valueAxis } from "@/shared/chart/palette";
import { hollowLine } from "@/shared/chart/series";
import { told } from "@/shared/chart/told";
import { DASH, date, number, signed } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { HvChoice } from "./HvChoice";
import type { Write } from "./part";

/** One year of implied against historical volatility. */
export function VolatilityYear({
  data,
  estimator,
  window,
  onWrite,
}: {
  data: Dossier;
  estimator: NonNullable<DossierRequest["estimator"]>;
  window: number;
  onWrite: Write;
}) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, window, palette), [data, window, palette]);
  const { year } = data;
  const lastHv = year.hv.at(-1) ?? null;
  const gap = data.standing.last !== null && lastHv !== null ? data.standing.last - lastHv : null;
  return (
    <Figure
      title={
        <>
          <i className="key priced">Implied, 30 days</i> against <i className="key did">historical</i>
          <span className="aside">% a year{gap !== null && ` · gap ${signed(gap, 1)}`}</span>
        </>
      }
      controls={<HvChoice request={{ estimator, window }} onWrite={onWrite} />}
      chart={<EChart option={option} label="One year of implied (hollow) and historical volatility (solid), percent" />}
      table={
        <table>
          <thead>
            <tr>
              <th>Session</th>
              <th>Implied, 30 days %</th>
              <th>Historical, {window} sessions %</th>
              <th>Gap, points</th>
            </tr>
          </thead>
          <tbody>
            {year.sessions
              .map((session, i) => ({ session, implied: year.iv30[i] ?? null, hv: year.hv[i] ?? null }))
              .reverse()
              .map(({ session, implied, hv }) => (
                <tr key={session}>
                  <td>
                    {date(session, true)}
                    {year.reports.includes(session) && " · earnings"}
                  </td>
                  <td>{number(implied, 1)}</td>
                  <td>{number(hv, 1)}</td>
                  <td>{implied !== null && hv !== null ? signed(implied - hv, 1) : DASH}</td>
                </tr>
              ))}
          </tbody>
        </table>
      }
    />
  );
}

function makeOption(data: Dossier, window: number, c: Palette): EChartsCoreOption {
  const { year } = data;
  const base = chartBase(c);
  return {
    ...base,
    grid: { left: 38, right: 14, top: 14, bottom: 24 },
    tooltip: sessionTooltip<{ dataIndex: number }>(c, (points) => {
      const i = points[0]?.dataIndex ?? 0;
      const session = year.sessions[i] ?? "";
      const iv = year.iv30[i] ?? null;
      const hv = year.hv[i] ?? null;
      return told(
        date(session, true),
        `implied ${number(iv, 1)} %`,
        `historical ${number(hv, 1)} %`,
        iv !== null && hv !== null && `gap ${signed(iv - hv, 1)} points`,
        year.reports.includes(session) && "earnings reported",
      );
    }),
    xAxis: monthAxis(year.sessions, c),
    yAxis: valueAxis(c, { min: 0 }),
    series: [
      {
        type: "line",
        name: `historical ${window}`,
        data: year.hv,
        symbol: "none",
        z: 2,
        lineStyle: { color: c.solid, width: 1.6 },
        areaStyle: { color: c.solid, opacity: 0.28, origin: "start" },
        markLine: {
          silent: true,
          symbol: ["none", "none"],
          label: { formatter: "E", color: c.muted, fontSize: 11, distance: 2 },
          lineStyle: { color: c.muted, type: [2, 4], width: 1 },
          data: year.reports.map((session) => ({ xAxis: session })),
        },
      },
      ...hollowLine(year.iv30, c),
    ],
  };
}
