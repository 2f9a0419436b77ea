import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { bottomAxis, chartBase, type Palette, usePalette, valueAxis } from "@/shared/chart/palette";
import { told, toldOn } from "@/shared/chart/told";
import { date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";

type Data = Schemas["VolatilityView"];
type Expiry = Schemas["ExpiryRow"];
const TICKS = [2, 5, 10, 21, 42, 63, 126, 252, 504];

/** The cone of what the stock has done by horizon, with what options price for each laid over it. */
export function ConeChart({ data }: { data: Data }) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, palette), [data, palette]);
  const { cone, expiries } = data;
  const earnings = expiries.some((row) => row.earnings_inside);
  return (
    <Figure
      title={
        <>
          Cone and term structure{" "}
          <span className="aside">solid: did · hollow: priced{earnings && ", small ex earnings"}</span>
        </>
      }
      chart={
        <EChart
          option={option}
          label="Range of historical volatility by horizon with the term structure of implied volatility over it"
        />
      }
      table={
        <>
          <table>
            <thead>
              <tr>
                <th>Sessions</th>
                {cone.shares.map((share) => (
                  <th key={share}>{share === 0 ? "lowest" : share === 100 ? "highest" : `${share} %`}</th>
                ))}
                <th>now</th>
                <th title="Windows counted; they overlap">windows</th>
              </tr>
            </thead>
            <tbody>
              {cone.parts.map((part) => (
                <tr key={part.sessions}>
                  <td>{part.sessions}</td>
                  {part.quantiles.map((value, i) => (
                    <td key={cone.shares[i]}>{number(value, 1)}</td>
                  ))}
                  <td>{number(part.last, 1)}</td>
                  <td>{part.windows}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <table>
            <thead>
              <tr>
                <th>Expiration</th>
                <th>Days</th>
                <th>Priced %</th>
                <th>Without earnings %</th>
                <th>Fit</th>
              </tr>
            </thead>
            <tbody>
              {expiries.map((row) => (
                <tr key={row.expiration} title={row.flaw || undefined}>
                  <td>{date(row.expiration, true)}</td>
                  <td>{row.days}</td>
                  <td>{number(row.vol, 1)}</td>
                  <td>{number(row.vol_ex_earnings, 1)}</td>
                  <td>{number(row.quality)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      }
    />
  );
}

const sessionsOf = (days: number) => (days * 252) / 365;

function makeOption(data: Data, c: Palette): EChartsCoreOption {
  const { cone } = data;
  const parts = cone.parts.filter((part) => part.windows > 0);
  const known = data.expiries.filter((row): row is Expiry & { vol: number } => row.vol !== null && row.days > 0);
  const at = (share: number): [number, number][] => {
    const place = cone.shares.indexOf(share);
    return parts.map((part) => [part.sessions, part.quantiles[place] ?? 0]);
  };
  const base = chartBase(c);
  const band = (low: number, high: number, opacity: number, stack: string) => [
    { type: "line", data: at(low), symbol: "none", silent: true, stack, lineStyle: { opacity: 0 }, z: 1 },
    {
      type: "line",
      data: at(high).map(([x, value], i) => [x, value - (at(low)[i]?.[1] ?? 0)]),
      symbol: "none",
      silent: true,
      stack,
      lineStyle: { opacity: 0 },
      areaStyle: { color: c.solid, opacity },
      z: 1,
    },
  ];
  const first = Math.min(8, ...known.map((row) => sessionsOf(row.days)));
  const last = Math.max(252, ...known.map((row) => sessionsOf(row.days)));
  const ex = known.filter((row) => row.vol_ex_earnings !== null && Math.abs(row.vol - row.vol_ex_earnings) > 0.05);
  return {
    ...base,
    grid: { left: 38, right: 14, top: 12, bottom: 36 },
    tooltip: {
      trigger: "item",
      ...base.tooltip,
      formatter: ({ seriesName, dataIndex }: { seriesName: string; dataIndex: number }) => {
        if (seriesName === "now") {
          const part = parts[dataIndex];
          const median = part?.quantiles[cone.shares.indexOf(50)];
          return part
            ? told(
                `${part.sessions} sessions`,
                `now ${number(part.last, 1)} %`,
                `median ${number(median, 1)} % of ${part.windows} windows`,
              )
            : "";
        }
        const row = (seriesName === "ex" ? ex : known)[dataIndex];
        if (!row) return "";
        return toldOn(
          date(row.expiration, true),
          `, ${row.days} days`,
          `priced ${number(row.vol, 1)} %`,
          row.earnings_inside && `without earnings ${number(row.vol_ex_earnings, 1)} %`,
          `fit ${number(row.quality)}${row.flaw ? `: ${row.flaw}` : ""}`,
        );
      },
    },
    xAxis: bottomAxis(c, "sessions ahead, or back", {
      type: "log",
      logBase: 2,
      min: first * 0.85,
      max: last * 1.15,
      axisTick: { show: false, customValues: TICKS },
      axisLabel: { color: c.muted, customValues: TICKS },
    }),
    yAxis: valueAxis(c, { scale: true }),
    series: [
      ...band(0, 100, 0.12, "whole"),
      ...band(25, 75, 0.22, "half"),
      { type: "line", data: at(50), symbol: "none", silent: true, z: 2, lineStyle: { color: c.solid, width: 1.2 } },
      {
        type: "scatter",
        name: "now",
        data: parts.map((part) => [part.sessions, part.last]),
        symbol: "rect",
        symbolSize: [9, 4],
        z: 3,
        itemStyle: { color: c.solid },
      },
      {
        type: "line",
        name: "priced",
        data: known.map((row) => [sessionsOf(row.days), row.vol]),
        symbol: "rect",
        symbolSize: [7, 11],
        z: 4,
        itemStyle: { color: c.paper, borderColor: c.ink, borderWidth: 1.6, opacity: 1 },
        lineStyle: { color: c.ink, width: 1, type: [3, 3] },
      },
      {
        type: "scatter",
        name: "ex",
        data: ex.map((row) => [sessionsOf(row.days), row.vol_ex_earnings]),
        symbol: "rect",
        symbolSize: [4, 7],
        z: 4,
        itemStyle: { color: c.paper, borderColor: c.muted, borderWidth: 1.2, opacity: 1 },
      },
    ],
  };
}
