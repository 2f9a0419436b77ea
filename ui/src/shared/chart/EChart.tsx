import { CandlestickChart, CustomChart, LineChart, ScatterChart } from "echarts/charts";
import { GridComponent, MarkLineComponent, TooltipComponent } from "echarts/components";
import { type EChartsCoreOption, init, use } from "echarts/core";
import { SVGRenderer } from "echarts/renderers";
import { useEffect, useRef } from "react";

use([
  CandlestickChart,
  CustomChart,
  LineChart,
  ScatterChart,
  GridComponent,
  MarkLineComponent,
  TooltipComponent,
  SVGRenderer,
]);

/** A chart that follows its box. `label` says in words what it shows; every chart also has a table. */
export function EChart({ option, label }: { option: EChartsCoreOption; label: string }) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<ReturnType<typeof init> | null>(null);
  useEffect(() => {
    if (!box.current) return;
    const made = init(box.current, null, { renderer: "svg" });
    chart.current = made;
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
