import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { FlowTable, sidesOf } from "@/shared/chart/FlowTable";
import { type Flow, flowBars, QUARTER } from "@/shared/chart/flowBars";
import { lineMarks, type OwnLineAt } from "@/shared/chart/lineMarks";
import { chartBase, type Palette, usePalette, valueAxis } from "@/shared/chart/palette";
import { MARKS, ticketMarks } from "@/shared/chart/ticketMarks";
import { told } from "@/shared/chart/told";
import { clock, compact, date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";

type Data = Schemas["TapeView"];
type Ticket = Schemas["TicketRow"];
type Quarter = Schemas["Quarter"];

const MARKED = 60;

/** The day's price with the largest tickets where they came, and premium by quarter of an hour below it. */
export function TapeFigure({ data, lines }: { data: Data; lines: OwnLineAt[] }) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, lines, palette), [data, lines, palette]);
  return (
    <Figure
      className="tape-figure"
      title={
        <>
          Through the day <span className="aside">{MARKS}; larger for more premium</span>
        </>
      }
      chart={
        <EChart
          option={option}
          label={`Price of ${data.symbol} with its largest option tickets, and premium by quarter of an hour, calls above and puts below`}
        />
      }
      table={
        <FlowTable
          last="Shares"
          rows={data.quarters.map((q) => ({
            flow: flowOf(q),
            head: clock(q.at).slice(0, 5),
            last: compact(q.shares),
          }))}
        />
      }
    />
  );
}

const flowOf = (q: Quarter): Flow => ({
  at: q.at,
  call: { ask: q.call_ask, mid: q.call_mid, bid: q.call_bid },
  put: { ask: q.put_ask, mid: q.put_mid, bid: q.put_bid },
});

function makeOption(data: Data, lines: OwnLineAt[], c: Palette): EChartsCoreOption {
  const base = chartBase(c);
  const prices = data.prices.filter((price) => price !== null);
  const begin = Date.parse(data.quarters[0]?.at ?? data.minutes[0] ?? data.upto);
  const end = begin + 26 * QUARTER;
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
      formatter: (point: { data: { ticket?: Ticket; quarter?: Flow } }) => {
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
          `calls ${sidesOf(q.call)}`,
          `puts ${sidesOf(q.put)}`,
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
        markLine: lineMarks(lines, c, [Math.min(...prices), Math.max(...prices)]),
      },
      ticketMarks(data.tickets, c, (t) => Date.parse(t.at), MARKED),
      {
        ...flowBars(data.quarters.map(flowOf), c, (q) => Date.parse(q.at), QUARTER),
        xAxisIndex: 1,
        yAxisIndex: 1,
      },
    ],
  };
}
