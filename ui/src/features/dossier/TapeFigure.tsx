import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { chartBase, type Palette, usePalette, valueAxis } from "@/shared/chart/palette";
import { told } from "@/shared/chart/told";
import { compact, date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { clock } from "./ticketWords";

type Data = Schemas["TapeView"];
type Ticket = Schemas["TicketRow"];
type Quarter = Schemas["Quarter"];

const MARKED = 60;
const QUARTER = 15 * 60_000;
const SHAPES: Record<string, [string, number]> = { "1": ["triangle", 0], "-1": ["triangle", 180], "0": ["circle", 0] };
const SIDES = ["ask", "mid", "bid"] as const;

/** The day's price with the largest tickets where they came, and premium by quarter of an hour below it. */
export function TapeFigure({ data }: { data: Data }) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, palette), [data, palette]);
  return (
    <Figure
      className="tape-figure"
      title={
        <>
          Through the day <span className="aside">▲ at the ask, ▼ at the bid, ● between; larger for more premium</span>
        </>
      }
      chart={
        <EChart
          option={option}
          label={`Price of ${data.symbol} with its largest option tickets, and premium by quarter of an hour, calls above and puts below`}
        />
      }
      table={
        <table>
          <thead>
            <tr>
              <th>From</th>
              <th>Calls, ask $</th>
              <th>mid $</th>
              <th>bid $</th>
              <th>Puts, ask $</th>
              <th>mid $</th>
              <th>bid $</th>
              <th>Shares</th>
            </tr>
          </thead>
          <tbody>
            {data.quarters.map((q) => (
              <tr key={q.at}>
                <th scope="row">{clock(q.at).slice(0, 5)}</th>
                {(["call", "put"] as const).flatMap((right) =>
                  SIDES.map((side) => <td key={right + side}>{compact(q[`${right}_${side}`])}</td>),
                )}
                <td>{compact(q.shares)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}

function makeOption(data: Data, c: Palette): EChartsCoreOption {
  const base = chartBase(c);
  const begin = Date.parse(data.quarters[0]?.at ?? data.minutes[0] ?? data.upto);
  const end = begin + 26 * QUARTER;
  const most = Math.max(1, ...data.tickets.slice(0, MARKED).map((t) => t.premium));
  const axis = {
    type: "time",
    min: begin,
    max: end,
    axisTick: { show: false },
    axisLine: { lineStyle: { color: c.rule }, onZero: false },
    axisLabel: {
      color: c.muted,
      fontSize: 12,
      hideOverlap: true,
      formatter: (value: number) => clock(new Date(value).toISOString()).slice(0, 5),
    },
    splitLine: { show: false },
    minInterval: 3_600_000,
  };
  return {
    ...base,
    grid: [
      { left: 52, right: 12, top: 8, height: "52%" },
      { left: 52, right: 12, bottom: 22, height: "30%" },
    ],
    xAxis: [
      { ...axis, axisLabel: { show: false } },
      { ...axis, gridIndex: 1 },
    ],
    yAxis: [
      valueAxis(c, { scale: true, splitNumber: 3 }),
      valueAxis(c, {
        gridIndex: 1,
        splitNumber: 2,
        axisLabel: { color: c.muted, formatter: (value: number) => compact(Math.abs(value)) },
      }),
    ],
    tooltip: {
      ...base.tooltip,
      trigger: "item",
      formatter: (point: { data: { ticket?: Ticket; quarter?: Quarter } }) => {
        const { ticket: t, quarter: q } = point.data;
        if (t)
          return told(
            `${number(t.strike, 2)} ${t.is_call ? "call" : "put"} ${date(t.expiration)}`,
            `${clock(t.at)}: ${number(t.contracts)} at ${number(t.price, 2)}, $${compact(t.premium)}, ${t.kind}`,
            t.since !== null && `since then ${number(t.since, 2)} expected moves`,
          );
        if (!q) return told("");
        return told(
          `${clock(q.at).slice(0, 5)}, a quarter of an hour`,
          `calls $${compact(q.call_ask)} ask, $${compact(q.call_mid)} mid, $${compact(q.call_bid)} bid`,
          `puts $${compact(q.put_ask)} ask, $${compact(q.put_mid)} mid, $${compact(q.put_bid)} bid`,
        );
      },
    },
    series: [
      {
        type: "line",
        data: data.minutes.map((at, i) => [Date.parse(at), data.prices[i]]),
        symbol: "none",
        silent: true,
        lineStyle: { color: c.solid, width: 1.4 },
      },
      {
        type: "scatter",
        z: 5,
        data: data.tickets.slice(0, MARKED).map((t) => {
          const [symbol, turned] = SHAPES[String(t.side)] ?? ["circle", 0];
          return {
            value: [Date.parse(t.at), t.spot],
            ticket: t,
            symbol,
            symbolRotate: turned,
            symbolSize: 6 + 14 * Math.sqrt(t.premium / most),
            itemStyle: { color: t.is_call ? c.call : c.put, opacity: 0.75, borderColor: c.paper, borderWidth: 0.8 },
          };
        }),
      },
      bars(data.quarters, c),
    ],
  };
}

type Api = { value: (dim: number) => number; coord: (point: [number, number]) => [number, number] };

/** Calls above the line, puts below it; from the line outwards what traded at the ask, between, and at the bid, paler each time. */
function bars(quarters: Quarter[], c: Palette) {
  return {
    type: "custom",
    xAxisIndex: 1,
    yAxisIndex: 1,
    data: quarters.map((q, i) => ({
      value: [Date.parse(q.at), i, q.call_ask + q.call_mid + q.call_bid, -(q.put_ask + q.put_mid + q.put_bid)],
      quarter: q,
    })),
    encode: { x: 0, y: [2, 3] },
    renderItem: (_: unknown, api: Api) => {
      const q = quarters[api.value(1)];
      if (!q) return null;
      const [left] = api.coord([api.value(0), 0]);
      const [right] = api.coord([api.value(0) + QUARTER, 0]);
      const children = (["call", "put"] as const).flatMap((one) => {
        let from = 0;
        return SIDES.map((side, i) => {
          const upto = from + (one === "call" ? 1 : -1) * q[`${one}_${side}`];
          const y0 = api.coord([0, from])[1];
          const y1 = api.coord([0, upto])[1];
          from = upto;
          return {
            type: "rect",
            shape: {
              x: left + 1,
              width: Math.max(1, right - left - 2),
              y: Math.min(y0, y1),
              height: Math.abs(y1 - y0),
            },
            style: { fill: one === "call" ? c.call : c.put, opacity: [1, 0.55, 0.28][i] },
          };
        });
      });
      return { type: "group", children };
    },
  };
}
