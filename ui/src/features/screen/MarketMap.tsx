import { TreemapChart } from "echarts/charts";
import { TooltipComponent } from "echarts/components";
import { init, use } from "echarts/core";
import { SVGRenderer } from "echarts/renderers";
import { type KeyboardEvent, useEffect, useMemo, useRef } from "react";
import type { Metric } from "@/shared/api/client";
import { chartBase, type Palette, usePalette } from "@/shared/chart/palette";
import { toldOn } from "@/shared/chart/told";
import { DASH, metricText, signed } from "@/shared/format";
import { Empty } from "@/shared/ui/States";
import { type Columns, type Row, valueAt } from "./rows";

use([TreemapChart, TooltipComponent, SVGRenderer]);

type Chart = ReturnType<typeof init>;

/** The survivors by sector: area and shade from any two metrics. */
export default function MarketMap({
  rows,
  columns,
  metrics,
  area,
  shade,
  focused,
  onFocus,
  onOpen,
}: {
  rows: Row[];
  columns: Columns;
  metrics: Map<string, Metric>;
  area: string;
  shade: string;
  focused: string | null;
  onFocus: (row: Row) => void;
  onOpen: (symbol: string) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<Chart | null>(null);
  const palette = usePalette();
  const on = useRef({ onFocus, onOpen, rows });
  on.current = { onFocus, onOpen, rows };
  const drawn = useMemo(
    () => makeTiles(rows, columns, metrics, area, shade, focused, palette),
    [rows, columns, metrics, area, shade, focused, palette],
  );

  useEffect(() => {
    if (!box.current) return;
    const made = init(box.current, null, { renderer: "svg" });
    chart.current = made;
    const rowOf = (event: unknown) => {
      const symbol = (event as { data?: { symbol?: string } }).data?.symbol;
      return on.current.rows.find((row) => row.symbol === symbol);
    };
    made.on("click", (event) => {
      const row = rowOf(event);
      if (row) on.current.onFocus(row);
    });
    made.on("dblclick", (event) => {
      const row = rowOf(event);
      if (row) on.current.onOpen(row.symbol);
    });
    const watcher = new ResizeObserver(() => made.resize());
    watcher.observe(box.current);
    return () => {
      watcher.disconnect();
      made.dispose();
      chart.current = null;
    };
  }, []);
  useEffect(() => {
    chart.current?.setOption(drawn.option, { notMerge: true });
  }, [drawn]);

  function key(event: KeyboardEvent) {
    const at = drawn.order.findIndex((row) => row.symbol === focused);
    const by = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[event.key];
    if (event.key === "Enter" && focused) return onOpen(focused);
    if (by === undefined) return;
    event.preventDefault();
    const row = drawn.order[Math.max(0, Math.min(drawn.order.length - 1, at + by))];
    if (row) onFocus(row);
  }

  return (
    <div className="map">
      <p className="map-legend">
        <span className="shades" aria-hidden="true" style={{ background: drawn.gradient }} />
        {drawn.legend}
        {drawn.left > 0 && ` · ${drawn.left} without an area are left out`}
      </p>
      {drawn.order.length === 0 && (
        <Empty>
          <p>No survivor has a value of {metrics.get(area)?.label ?? area} above zero. Choose another area.</p>
        </Empty>
      )}
      <div
        ref={box}
        className="map-chart"
        hidden={drawn.order.length === 0}
        role="application"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: the arrow keys walk the map
        tabIndex={0}
        aria-label={`Map of ${drawn.order.length} names by sector; area ${metrics.get(area)?.label ?? area}, shade ${metrics.get(shade)?.label ?? shade}. The table view has the same numbers.`}
        onKeyDown={key}
      />
    </div>
  );
}

function makeTiles(
  rows: Row[],
  columns: Columns,
  metrics: Map<string, Metric>,
  area: string,
  shade: string,
  focused: string | null,
  c: Palette,
) {
  const size = (row: Row) => Math.max(valueAt(columns, area, row) ?? 0, 0);
  const order = rows
    .filter((row) => size(row) > 0)
    .sort((a, b) => a.sector.localeCompare(b.sector) || size(b) - size(a));
  const shades = order.map((row) => valueAt(columns, shade, row)).filter((v): v is number => v !== null);
  shades.sort((a, b) => a - b);
  const at = (share: number) => shades[Math.round(share * (shades.length - 1))] ?? 0;
  const signedShade = shades.length > 0 && at(0.02) < 0 && at(0.98) > 0;
  const reach = Math.max(Math.abs(at(0.03)), Math.abs(at(0.97)), 1e-9);
  const [low, high] = signedShade ? [-reach, reach] : [at(0.03), at(0.97)];
  const metric = metrics.get(shade);
  const decimals = metric?.decimals ?? columns.get(shade)?.decimals ?? 2;
  const unit = metric?.unit ?? columns.get(shade)?.unit ?? "";
  const text = (value: number | null) =>
    value === null ? DASH : signedShade ? signed(value, decimals) : metricText(unit, decimals, value);
  // Below zero in ink, above in persimmon, both light; without a sign one tint of ink.
  const tint = (value: number | null) => {
    if (value === null) return c.paper;
    const share = Math.max(0, Math.min(1, (value - low) / Math.max(high - low, 1e-9)));
    if (!signedShade) return mix(c.paper, c.solid, 0.06 + 0.62 * share);
    return share < 0.5 ? mix(c.paper, c.solid, 0.66 * (1 - 2 * share)) : mix(c.paper, c.accent, 0.62 * (2 * share - 1));
  };
  const bySector = new Map<string, Row[]>();
  for (const row of order) bySector.set(row.sector, [...(bySector.get(row.sector) ?? []), row]);
  const data = [...bySector].map(([name, list]) => ({
    name,
    children: list.map((row) => {
      const value = valueAt(columns, shade, row);
      return {
        name: row.symbol,
        symbol: row.symbol,
        company: row.company,
        value: size(row),
        shown: text(value),
        itemStyle: {
          color: tint(value),
          borderColor: row.symbol === focused ? c.accent : c.paper,
          borderWidth: row.symbol === focused ? 3 : 1,
        },
      };
    }),
  }));
  const base = chartBase(c);
  const areaMetric = metrics.get(area);
  const option = {
    ...base,
    tooltip: {
      ...base.tooltip,
      formatter: (point: { data?: { symbol?: string; company?: string; value?: number; shown?: string } }) => {
        const d = point.data;
        if (!d?.symbol) return "";
        const sized = metricText(areaMetric?.unit ?? "", areaMetric?.decimals ?? 0, d.value);
        return toldOn(
          d.symbol,
          ` ${d.company}`,
          `${metric?.label ?? shade}: ${d.shown} ${unit}`,
          `${areaMetric?.label ?? area}: ${sized} ${areaMetric?.unit ?? ""}`,
        );
      },
    },
    series: [
      {
        type: "treemap",
        roam: false,
        nodeClick: false,
        breadcrumb: { show: false },
        left: 0,
        right: 0,
        top: 0,
        bottom: 0,
        sort: "desc",
        data,
        label: {
          color: c.ink,
          fontSize: 12,
          lineHeight: 14,
          ellipsis: "",
          formatter: (point: { data: { symbol?: string; shown?: string } }) =>
            `${point.data.symbol}\n${point.data.shown}`,
        },
        upperLabel: { show: true, height: 18, color: c.ink, backgroundColor: c.wash, fontSize: 12, formatter: "{b}" },
        levels: [
          { itemStyle: { borderWidth: 0, gapWidth: 3 }, upperLabel: { show: false } },
          { itemStyle: { borderColor: c.wash, borderWidth: 2, gapWidth: 1 } },
        ],
      },
    ],
  };
  const legend =
    shades.length === 0
      ? `${metric?.label ?? shade}: no value`
      : `${metric?.label ?? shade} ${text(low)} to ${text(high)} ${unit}`;
  const stops = [0, 0.25, 0.5, 0.75, 1].map((s) => tint(low + s * (high - low)));
  return {
    option,
    order,
    legend,
    left: rows.length - order.length,
    gradient: `linear-gradient(90deg, ${stops.join(",")})`,
  };
}

function mix(from: string, to: string, share: number): string {
  const part = (hex: string, i: number) => Number.parseInt(hex.slice(1 + 2 * i, 3 + 2 * i), 16);
  const channel = (i: number) => Math.round(part(from, i) + (part(to, i) - part(from, i)) * share);
  return `rgb(${channel(0)},${channel(1)},${channel(2)})`;
}
