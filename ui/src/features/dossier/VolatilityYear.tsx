import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Dossier } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { chartBase, monthAxis, type Palette, usePalette } from "@/shared/chart/palette";
import { DASH, date, number, signed } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { ESTIMATORS, WINDOWS } from "./choices";

/** One year of implied against historical volatility. */
export function VolatilityYear({
  data,
  estimator,
  window,
  onChoose,
}: {
  data: Dossier;
  estimator: string;
  window: number;
  onChoose: (key: string, value: string) => void;
}) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, window, palette), [data, window, palette]);
  const { year } = data;
  const chosen = ESTIMATORS.find((e) => e.value === estimator);
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
      controls={
        <>
          <select
            aria-label="Estimator of historical volatility"
            title={chosen && `Sees ${chosen.sees}`}
            value={estimator}
            onChange={(event) => onChoose("estimator", event.target.value)}
          >
            {ESTIMATORS.map((e) => (
              <option key={e.value} value={e.value} title={`Sees ${e.sees}`}>
                {e.label}
              </option>
            ))}
          </select>
          <select
            aria-label="Window of historical volatility"
            value={window}
            onChange={(event) => onChoose("window", event.target.value)}
          >
            {WINDOWS.map((n) => (
              <option key={n} value={n}>
                {n} sessions
              </option>
            ))}
          </select>
        </>
      }
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
  // The hollow line of what is priced: a line of ink with a line of paper inside it.
  const implied = (color: string, width: number, z: number) => ({
    type: "line",
    data: year.iv30,
    symbol: "none",
    silent: true,
    z,
    lineStyle: { color, width, cap: "butt", join: "round" },
  });
  const base = chartBase(c);
  return {
    ...base,
    grid: { left: 38, right: 14, top: 14, bottom: 24 },
    tooltip: {
      trigger: "axis",
      ...base.tooltip,
      axisPointer: { lineStyle: { color: c.muted, type: "solid" } },
      formatter: (points: { dataIndex: number }[]) => {
        const i = points[0]?.dataIndex ?? 0;
        const session = year.sessions[i] ?? "";
        const iv = year.iv30[i] ?? null;
        const hv = year.hv[i] ?? null;
        const report = year.reports.includes(session) ? "<br>earnings reported" : "";
        const gap = iv !== null && hv !== null ? `<br>gap ${signed(iv - hv, 1)} points` : "";
        return `<b>${date(session, true)}</b><br>implied ${number(iv, 1)} %<br>historical ${number(hv, 1)} %${gap}${report}`;
      },
    },
    xAxis: monthAxis(year.sessions, c),
    yAxis: {
      type: "value",
      min: 0,
      axisLabel: { color: c.muted, formatter: "{value}" },
      splitLine: { lineStyle: { color: c.rule, type: "solid" } },
    },
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
      implied(c.ink, 4.6, 3),
      implied(c.paper, 2.2, 4),
    ],
  };
}
