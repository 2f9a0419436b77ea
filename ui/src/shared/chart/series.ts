import type { Palette } from "./palette";

/** The hollow line of what is priced: a line of ink with a line of paper inside it. */
export function hollowLine(data: (number | null)[] | [number, number | null][], c: Palette, z = 3) {
  const line = (color: string, width: number, at: number) => ({
    type: "line",
    data,
    symbol: "none",
    silent: true,
    z: at,
    lineStyle: { color, width, cap: "butt", join: "round" },
  });
  return [line(c.ink, 4.6, z), line(c.paper, 2.2, z + 1)];
}

type CustomApi = { value: (dim: number) => number; coord: (point: [number, number]) => [number, number] };

/** Quotes as whiskers: from bid to ask with a cap at both ends. Data: [x, bid, ask, used]. */
export function whiskers(data: (number | null)[][], c: Palette) {
  return {
    type: "custom",
    data,
    z: 3,
    encode: { x: 0, y: [1, 2] },
    renderItem: (_: unknown, api: CustomApi) => {
      const [x, low] = api.coord([api.value(0), api.value(1)]);
      const high = api.coord([api.value(0), api.value(2)])[1];
      const color = api.value(3) ? c.ink : c.muted;
      const bar = (x1: number, y1: number, x2: number, y2: number) => ({
        type: "line",
        shape: { x1, y1, x2, y2 },
        style: { stroke: color, lineWidth: api.value(3) ? 1.3 : 0.8, lineDash: api.value(3) ? undefined : [2, 2] },
      });
      return {
        type: "group",
        children: [bar(x, low, x, high), bar(x - 3, low, x + 3, low), bar(x - 3, high, x + 3, high)],
      };
    },
  };
}

export type Outline = { points: [number | string, number, number][]; faint: boolean; accent?: boolean };

/** Hollow fans: from one point the two edges open, closed at their end like a bracket. */
export function fans(outlines: Outline[], c: Palette) {
  return {
    type: "custom",
    silent: true,
    z: 4,
    clip: true,
    // The axis makes room for the widest place of each.
    data: outlines.map(({ points }, i) => [
      points[0]?.[0] ?? 0,
      Math.min(...points.map(([, low]) => low)),
      Math.max(...points.map(([, , high]) => high)),
      i,
    ]),
    encode: { x: 0, y: [1, 2] },
    renderItem: (
      _: unknown,
      api: { value: (d: number) => number; coord: (p: [number | string, number]) => number[] },
    ) => {
      const fan = outlines[api.value(3)];
      if (!fan) return null;
      const upper = fan.points.map(([x, , high]) => api.coord([x, high]));
      const lower = fan.points.map(([x, low]) => api.coord([x, low]));
      const end = upper.at(-1)?.[0] ?? 0;
      const style = {
        fill: "none",
        stroke: fan.accent ? c.accent : c.ink,
        lineWidth: fan.faint ? 0.8 : 1.7,
        opacity: fan.faint ? 0.38 : 1,
      };
      return {
        type: "group",
        children: [
          { type: "polyline", shape: { points: upper }, style },
          { type: "polyline", shape: { points: lower }, style },
          {
            type: "line",
            shape: { x1: end, y1: upper.at(-1)?.[1] ?? 0, x2: end, y2: lower.at(-1)?.[1] ?? 0 },
            style: fan.faint ? { ...style, opacity: 0.22 } : style,
          },
        ],
      };
    },
  };
}
