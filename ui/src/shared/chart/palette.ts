import { useMemo } from "react";
import { useTheme } from "@/frame/theme";
import { date } from "@/shared/format";

export type Palette = Record<"ink" | "paper" | "muted" | "rule" | "accent" | "solid" | "wash" | "call" | "put", string>;

/** The theme's colours, for charts that cannot read them from the style sheet. */
export function usePalette(): Palette {
  const { theme } = useTheme();
  // biome-ignore lint/correctness/useExhaustiveDependencies: the style sheet's values change with the theme
  return useMemo(() => {
    const style = getComputedStyle(document.documentElement);
    const read = (name: string) => style.getPropertyValue(`--f-${name}`).trim();
    return {
      ink: read("ink"),
      paper: read("paper"),
      muted: read("muted"),
      rule: read("rule"),
      accent: read("accent"),
      solid: read("solid"),
      wash: read("wash"),
      call: read("call"),
      put: read("put"),
    };
  }, [theme]);
}

/** Sessions from left to right, with a label where a month begins. */
export function monthAxis(sessions: string[], c: Palette) {
  return {
    type: "category",
    data: sessions,
    boundaryGap: false,
    axisLine: { lineStyle: { color: c.rule } },
    axisTick: { show: false },
    axisLabel: {
      color: c.muted,
      hideOverlap: true,
      interval: (i: number, value: string) => i > 0 && sessions[i - 1]?.slice(0, 7) !== value.slice(0, 7),
      formatter: (value: string) => (value.slice(5, 7) === "01" ? value.slice(0, 4) : date(value).replace(/^\d+ /, "")),
    },
  };
}

/** Two charts over the same sessions, one above the other, read together: the lower one carries the labels. */
export function twoPanes(sessions: string[], c: Palette) {
  const axis = monthAxis(sessions, c);
  return {
    axisPointer: { link: [{ xAxisIndex: "all" }] },
    xAxis: [
      { ...axis, axisLabel: { show: false } },
      { ...axis, gridIndex: 1, axisLine: { ...axis.axisLine, onZero: false } },
    ],
  };
}

/** What every chart has in common: no motion, our type, and a plain framed tooltip. */
export function chartBase(c: Palette) {
  return {
    animation: false,
    textStyle: { fontFamily: "inherit", color: c.ink },
    tooltip: {
      backgroundColor: c.paper,
      borderColor: c.ink,
      borderWidth: 1,
      padding: [4, 8],
      extraCssText: "border-radius:0;box-shadow:none",
      textStyle: { color: c.ink, fontSize: 13 },
    },
  };
}

/** The tooltip of a chart over sessions: a plain line at the session pointed at. */
export function sessionTooltip<Point>(c: Palette, formatter: (points: Point[]) => HTMLElement) {
  return {
    trigger: "axis",
    ...chartBase(c).tooltip,
    axisPointer: { lineStyle: { color: c.muted, type: "solid" } },
    formatter,
  };
}

/** An axis of numbers with thin rules across. */
export function valueAxis(c: Palette, more: object = {}) {
  return {
    type: "value",
    axisLabel: { color: c.muted },
    splitLine: { lineStyle: { color: c.rule, type: "solid" } },
    ...more,
  };
}

/** An axis of numbers along the bottom, with its name below and no rules. */
export function bottomAxis(c: Palette, name: string, more: object = {}) {
  return {
    type: "value",
    name,
    nameLocation: "middle",
    nameGap: 20,
    nameTextStyle: { color: c.muted },
    axisLine: { lineStyle: { color: c.rule }, onZero: false },
    axisTick: { show: false },
    axisLabel: { color: c.muted },
    splitLine: { show: false },
    ...more,
  };
}
