import type { Palette } from "./palette";

type Sided = { ask: number; mid: number; bid: number };
export type Flow = { at: string; call: Sided; put: Sided };

export const QUARTER = 15 * 60_000;
export const SIDES = ["ask", "mid", "bid"] as const;

type Api = { value: (dim: number) => number; coord: (point: [number, number]) => [number, number] };

/**
 * Premium by quarter of an hour as an ECharts series: calls above the line, puts below it; from the line outwards what traded at the
 * ask, between, and at the bid, paler each time. `place` says where a quarter begins on the axis; the `chosen` one is underlined.
 */
export function flowBars(
  quarters: Flow[],
  c: Palette,
  place: (quarter: Flow, i: number) => number,
  width: number,
  chosen: number | null = null,
) {
  const total = (one: Sided) => one.ask + one.mid + one.bid;
  return {
    type: "custom",
    data: quarters.map((q, i) => ({ value: [place(q, i), i, total(q.call), -total(q.put)], quarter: q })),
    encode: { x: 0, y: [2, 3] },
    renderItem: (_: unknown, api: Api) => {
      const i = api.value(1);
      const q = quarters[i];
      if (!q) return null;
      const [left, middle] = api.coord([api.value(0), 0]);
      const [right] = api.coord([api.value(0) + width, 0]);
      const children = (["call", "put"] as const).flatMap((one) => {
        let from = 0;
        return SIDES.map((side, k) => {
          const upto = from + (one === "call" ? 1 : -1) * q[one][side];
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
            style: { fill: one === "call" ? c.call : c.put, opacity: [1, 0.55, 0.28][k] as number },
          };
        });
      });
      if (i === chosen)
        children.push({
          type: "rect",
          shape: { x: left, width: right - left, y: middle - 1.5, height: 3 },
          style: { fill: c.accent, opacity: 1 },
        });
      return { type: "group", children };
    },
  };
}
