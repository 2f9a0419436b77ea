import type { Palette } from "./palette";

/** One's own line on a chart of price. */
export type OwnLineAt = { id: number; name?: string; price: number };

/**
 * One's own lines across a chart of price, as an ECharts series' `markLine`: those between two prices, along the axis that price is on.
 */
export function lineMarks(
  lines: OwnLineAt[],
  c: Palette,
  [low, high]: [number, number],
  axis: "xAxis" | "yAxis" = "yAxis",
) {
  return {
    silent: true,
    symbol: ["none", "none"],
    lineStyle: { color: c.accent, type: "solid", width: 1.2 },
    label: {
      position: axis === "yAxis" ? "insideStartTop" : "insideEndTop",
      color: c.accent,
      fontSize: 12,
      formatter: ({ data }: { data: { words: string } }) => data.words,
    },
    data: lines
      .filter(({ price }) => price >= low && price <= high)
      .map((line) => ({ [axis]: line.price, words: line.name || String(line.price) })),
  };
}
