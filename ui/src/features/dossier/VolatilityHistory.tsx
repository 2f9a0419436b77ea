import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { DossierRequest, Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { chartBase, type Palette, sessionTooltip, twoPanes, usePalette, valueAxis } from "@/shared/chart/palette";
import { hollowLine } from "@/shared/chart/series";
import { told } from "@/shared/chart/told";
import { date, number, signed } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { HvChoice } from "./HvChoice";
import type { Write } from "./part";

type Data = Schemas["VolatilityView"];

/** Two years of implied against historical volatility, with the percentile of their ratio below. */
export function VolatilityHistory({ data, request, onWrite }: { data: Data; request: DossierRequest; onWrite: Write }) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, palette), [data, palette]);
  const { history: h } = data;
  const ratio = h.ratio.at(-1) ?? null;
  const percentile = h.ratio_percentile.at(-1) ?? null;
  return (
    <Figure
      title={
        <>
          <i className="key priced">Implied</i> against <i className="key did">historical</i>
          <span className="aside">
            {ratio !== null && `ratio ${number(ratio, 2)}`}
            {percentile !== null && `, percentile ${number(percentile)}`}
          </span>
        </>
      }
      controls={<HvChoice request={request} onWrite={onWrite} />}
      chart={
        <EChart
          option={option}
          label="Implied (hollow) and historical volatility (solid) over two years, and the percentile of their ratio"
        />
      }
      table={
        <table>
          <thead>
            <tr>
              <th>Session</th>
              <th>Implied %</th>
              <th>Without earnings %</th>
              <th>Historical %</th>
              <th>Ratio</th>
              <th>Percentile</th>
              <th>IV pctl</th>
            </tr>
          </thead>
          <tbody>
            {h.sessions
              .map((session, i) => ({ session, i }))
              .reverse()
              .map(({ session, i }) => (
                <tr key={session}>
                  <td>
                    {date(session, true)}
                    {h.reports.includes(session) && " · earnings"}
                    {h.ex_dates.includes(session) && " · ex-dividend"}
                  </td>
                  <td>{number(h.iv30[i], 1)}</td>
                  <td>{number(h.iv30_ex_earnings[i], 1)}</td>
                  <td>{number(h.hv[i], 1)}</td>
                  <td>{number(h.ratio[i], 2)}</td>
                  <td>{number(h.ratio_percentile[i])}</td>
                  <td>{number(h.iv_percentile[i])}</td>
                </tr>
              ))}
          </tbody>
        </table>
      }
    />
  );
}

function makeOption(data: Data, c: Palette): EChartsCoreOption {
  const { history: h } = data;
  const base = chartBase(c);
  const marks = (days: string[], text: string, color: string) =>
    days
      .filter((day) => h.sessions.includes(day))
      .map((day) => ({ xAxis: day, label: { formatter: text, color }, lineStyle: { color } }));
  return {
    ...base,
    ...twoPanes(h.sessions, c),
    grid: [
      { left: 38, right: 14, top: 16, height: "62%" },
      { left: 38, right: 14, bottom: 22, height: "16%" },
    ],
    tooltip: sessionTooltip<{ dataIndex: number }>(c, (points) => {
      const i = points[0]?.dataIndex ?? 0;
      const session = h.sessions[i] ?? "";
      const iv = h.iv30[i] ?? null;
      const hv = h.hv[i] ?? null;
      return told(
        date(session, true),
        `implied ${number(iv, 1)} %, percentile ${number(h.iv_percentile[i])}`,
        `without earnings ${number(h.iv30_ex_earnings[i], 1)} %`,
        `historical ${number(hv, 1)} %`,
        iv !== null && hv !== null ? `gap ${signed(iv - hv, 1)} points` : "",
        `ratio ${number(h.ratio[i], 2)}, percentile ${number(h.ratio_percentile[i])}`,
        h.reports.includes(session) ? "earnings reported" : "",
        h.ex_dates.includes(session) ? "ex-dividend" : "",
      );
    }),
    yAxis: [
      valueAxis(c, { min: 0 }),
      {
        type: "value",
        gridIndex: 1,
        min: 0,
        max: 100,
        interval: 50,
        name: "percentile of the ratio",
        nameLocation: "end",
        nameGap: 3,
        nameTextStyle: { color: c.muted, align: "left", fontSize: 11 },
        axisLabel: { color: c.muted, fontSize: 11 },
        splitLine: { lineStyle: { color: c.rule, type: "solid" } },
      },
    ],
    series: [
      {
        type: "line",
        data: h.hv,
        symbol: "none",
        z: 2,
        lineStyle: { color: c.solid, width: 1.4 },
        areaStyle: { color: c.solid, opacity: 0.28, origin: "start" },
        markLine: {
          silent: true,
          symbol: ["none", "none"],
          label: { fontSize: 11, distance: 2 },
          lineStyle: { type: [2, 4], width: 1 },
          data: [...marks(h.reports, "E", c.muted), ...marks(h.ex_dates, "d", c.muted)],
        },
      },
      ...hollowLine(h.iv30, c),
      {
        type: "line",
        xAxisIndex: 1,
        yAxisIndex: 1,
        data: h.ratio_percentile,
        symbol: "none",
        lineStyle: { color: c.ink, width: 1 },
      },
    ],
  };
}
