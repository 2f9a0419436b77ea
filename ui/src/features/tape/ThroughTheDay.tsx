import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { FlowTable, sidesOf } from "@/shared/chart/FlowTable";
import { flowBars } from "@/shared/chart/flowBars";
import { chartBase, type Palette, usePalette, valueAxis } from "@/shared/chart/palette";
import { told } from "@/shared/chart/told";
import { clock, compact, date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";

type Quarter = Schemas["QuarterRow"];
export type Chosen = { session: string; place: number };

const from = (q: { at: string }) => clock(q.at).slice(0, 5);

/** Premium of the survivors by quarter of an hour; one can be chosen, and the other ways to look show it alone. */
export function ThroughTheDay({
  quarters,
  chosen,
  onChoose,
}: {
  quarters: Quarter[];
  chosen: Chosen | null;
  onChoose: (quarter: Chosen | null) => void;
}) {
  const palette = usePalette();
  const at = quarters.findIndex((q) => q.session === chosen?.session && q.place === chosen.place);
  const option = useMemo(() => makeOption(quarters, at, palette), [quarters, at, palette]);
  const choose = (q: Quarter | undefined) =>
    q && onChoose(q === quarters[at] ? null : { session: q.session, place: q.place });
  return (
    <Figure
      className="through-the-day"
      title={
        <>
          Premium by quarter of an hour{" "}
          <span className="aside">calls up, puts down; dark at the ask, palest at the bid</span>
        </>
      }
      controls={
        chosen && (
          <button type="button" className="quiet" onClick={() => onChoose(null)}>
            all quarters again
          </button>
        )
      }
      chart={
        <EChart
          option={option}
          label="Premium of the surviving tickets by quarter of an hour, calls above the line and puts below it"
          onPick={(i) => choose(quarters[i])}
        />
      }
      table={
        <FlowTable
          last="Tickets"
          rows={quarters.map((q, i) => ({
            flow: q,
            head: (
              <button type="button" className="link" aria-pressed={i === at} onClick={() => choose(q)}>
                {date(q.session)} {from(q)}
              </button>
            ),
            last: number(q.tickets),
            chosen: i === at,
          }))}
        />
      }
    />
  );
}

function makeOption(quarters: Quarter[], chosen: number, c: Palette): EChartsCoreOption {
  const base = chartBase(c);
  const days = new Set(quarters.map((q) => q.session)).size;
  return {
    ...base,
    grid: { left: 58, right: 14, top: 10, bottom: 26 },
    xAxis: {
      type: "value",
      min: 0,
      max: quarters.length,
      interval: days > 1 ? 26 : 4,
      axisTick: { show: false },
      axisLine: { lineStyle: { color: c.rule }, onZero: true },
      splitLine: { show: days > 1, lineStyle: { color: c.rule } },
      axisLabel: {
        color: c.muted,
        fontSize: 11,
        align: days > 1 ? "left" : "center",
        formatter: (i: number) => {
          const q = quarters[i];
          return q ? (days > 1 ? date(q.session) : from(q)) : "";
        },
      },
    },
    yAxis: valueAxis(c, {
      splitNumber: 4,
      axisLabel: { color: c.muted, formatter: (value: number) => compact(Math.abs(value)) },
    }),
    tooltip: {
      ...base.tooltip,
      trigger: "item",
      formatter: (point: { data: { quarter?: Quarter } }) => {
        const q = point.data.quarter;
        return q
          ? told(
              `${date(q.session)} ${from(q)}, ${number(q.tickets)} tickets`,
              `calls ${sidesOf(q.call)}`,
              `puts ${sidesOf(q.put)}`,
            )
          : told("");
      },
    },
    series: [flowBars(quarters, c, (_, i) => i, 1, chosen < 0 ? null : chosen)],
  };
}
