import { CandlestickChart, CustomChart, LineChart, ScatterChart } from "echarts/charts";
import { DataZoomInsideComponent, GridComponent, MarkLineComponent, TooltipComponent } from "echarts/components";
import { type EChartsCoreOption, init, use } from "echarts/core";
import { CanvasRenderer, SVGRenderer } from "echarts/renderers";
import { useEffect, useRef } from "react";

use([
  CandlestickChart,
  CustomChart,
  LineChart,
  ScatterChart,
  DataZoomInsideComponent,
  GridComponent,
  MarkLineComponent,
  TooltipComponent,
  CanvasRenderer,
  SVGRenderer,
]);

export type Chart = ReturnType<typeof init>;

/** A chart in a box; on canvas what moves, as SVG all else. */
export const makeChart = (box: HTMLElement, renderer: "svg" | "canvas" = "svg"): Chart => init(box, null, { renderer });

/** A chart that follows its box. `label` says in words what it shows; every chart also has a table. */
export function EChart({
  option,
  label,
  onPick,
}: {
  option: EChartsCoreOption;
  label: string;
  /** A point of a series was clicked. */
  onPick?: (index: number) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<Chart | null>(null);
  const picked = useRef(onPick);
  picked.current = onPick;
  useEffect(() => {
    if (!box.current) return;
    const made = makeChart(box.current);
    chart.current = made;
    made.on("click", (event) => picked.current?.(event.dataIndex));
    const watcher = new ResizeObserver(() => made.resize());
    watcher.observe(box.current);
    return () => {
      watcher.disconnect();
      made.dispose();
      chart.current = null;
    };
  }, []);
  useEffect(() => {
    chart.current?.setOption(option, { notMerge: true });
  }, [option]);
  return <div ref={box} className="echart" role="img" aria-label={label} />;
}
