import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Dossier, Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { chartBase, type Palette, usePalette } from "@/shared/chart/palette";
import { toldOn } from "@/shared/chart/told";
import { DASH, date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { Empty } from "@/shared/ui/States";

type Expiry = Schemas["ExpiryRow"];
const TICKS = [2, 7, 14, 30, 60, 90, 180, 365, 730];

/** At-the-money volatility of every listed expiration. */
export function TermStructure({ data }: { data: Dossier }) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, palette), [data, palette]);
  const readable = data.expiries.some((row) => row.vol !== null);
  return (
    <Figure
      title={
        <>
          Term structure <span className="aside">at-the-money volatility by expiration, % a year</span>
        </>
      }
      chart={
        readable ? (
          <EChart option={option} label="At-the-money implied volatility by days to expiration, percent" />
        ) : (
          <Empty>
            <p>No expiration has a usable quote in this session.</p>
          </Empty>
        )
      }
      table={
        <table>
          <thead>
            <tr>
              <th>Expiration</th>
              <th>Days</th>
              <th>Volatility %</th>
              <th>Strikes in the fit</th>
              <th>Forward $</th>
              <th>Forward from</th>
            </tr>
          </thead>
          <tbody>
            {data.expiries.map((row) => (
              <tr key={row.expiration}>
                <td>{date(row.expiration, true)}</td>
                <td>{row.days}</td>
                <td title={row.reason ?? undefined}>{number(row.vol, 1)}</td>
                <td>{row.strikes}</td>
                <td>{number(row.forward, 2)}</td>
                <td>{row.forward === null ? DASH : row.forward_from_parity ? "parity" : "spot and rate"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}

/** Round ends and an even step that hold `low` and `high` with a little air. */
function niceScale(low: number, high: number): { low: number; high: number; step: number } {
  const rough = Math.max(high - low, 4) / 3.5;
  const size = 10 ** Math.floor(Math.log10(rough));
  const step = ([1, 2, 2.5, 5, 10].find((n) => n * size >= rough) ?? 10) * size;
  const bottom = Math.max(0, Math.floor((low - 0.1 * step) / step) * step);
  return { low: bottom, high: Math.ceil((high + 0.1 * step) / step) * step, step };
}

function makeOption(data: Dossier, c: Palette): EChartsCoreOption {
  const known = data.expiries.filter((row): row is Expiry & { vol: number } => row.vol !== null);
  const days = known.map((row) => row.days);
  const report = data.next_report;
  const last = Math.max(...days) * 1.2;
  // A report before the nearest expiration is on the chart too; a logarithm has no place for today.
  const soon = report && report.days >= 1 && report.days < last ? report.days : last;
  const first = Math.min(...days, soon) * 0.8;
  const hv = data.year.hv.at(-1) ?? null;
  const levels = [...known.map((row) => row.vol), ...(hv === null ? [] : [hv])];
  const scale = niceScale(Math.min(...levels), Math.max(...levels));
  const base = chartBase(c);
  return {
    ...base,
    grid: { left: 38, right: 64, top: 16, bottom: 36 },
    tooltip: {
      trigger: "item",
      ...base.tooltip,
      formatter: ({ dataIndex }: { dataIndex: number }) => {
        const row = known[dataIndex];
        if (!row) return "";
        return toldOn(
          date(row.expiration, true),
          `, ${row.days} days`,
          `${number(row.vol, 1)} %`,
          `${row.strikes} strikes in the fit`,
          row.earnings_inside && "earnings inside",
        );
      },
    },
    xAxis: {
      type: "log",
      logBase: 2,
      min: first,
      max: last,
      name: "days to expiration",
      nameLocation: "middle",
      nameGap: 21,
      nameTextStyle: { color: c.muted },
      axisLine: { lineStyle: { color: c.rule }, onZero: false },
      axisTick: { show: false, customValues: TICKS },
      axisLabel: { color: c.muted, customValues: TICKS },
      splitLine: { show: false },
    },
    yAxis: {
      type: "value",
      min: scale.low,
      max: scale.high,
      interval: scale.step,
      axisLabel: { color: c.muted },
      splitLine: { lineStyle: { color: c.rule, type: "solid" } },
    },
    series: [
      {
        type: "line",
        data: known.map((row) => [row.days, row.vol]),
        symbol: "rect",
        symbolSize: [7, 11],
        z: 3,
        itemStyle: { color: c.paper, borderColor: c.ink, borderWidth: 1.6, opacity: 1 },
        lineStyle: { color: c.ink, width: 1, type: [3, 3] },
        emphasis: { itemStyle: { borderColor: c.accent } },
        markLine: {
          silent: true,
          symbol: ["none", "none"],
          animation: false,
          data: [
            ...(hv === null
              ? []
              : [
                  {
                    yAxis: hv,
                    lineStyle: { color: c.solid, width: 4, type: "solid", opacity: 0.75 },
                    label: { formatter: `hist. ${number(hv, 1)}`, color: c.ink, fontSize: 12 },
                  },
                ]),
            ...(report && report.days >= first && report.days <= last
              ? [
                  {
                    xAxis: report.days,
                    lineStyle: { color: c.muted, width: 1, type: [2, 4] },
                    label: { formatter: "earnings", color: c.muted, fontSize: 12 },
                  },
                ]
              : []),
          ],
        },
      },
    ],
  };
}
