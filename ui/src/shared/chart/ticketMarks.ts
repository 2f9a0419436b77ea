import type { Palette } from "./palette";

type Marked = { at: string; spot: number | null; side: number; is_call: boolean; premium: number };
const SHAPES: Record<string, [string, number]> = { "1": ["triangle", 0], "-1": ["triangle", 180], "0": ["circle", 0] };

export const MARKS = "▲ at the ask, ▼ at the bid, ● between";

/**
 * Option tickets on a chart of the stock's price, as an ECharts series: where the stock stood when each came, larger for more
 * premium up to `largest` pixels, side by shape, calls and puts by hue. `x` places a ticket on the axis, null when it is not on it.
 */
export function ticketMarks<Ticket extends Marked>(
  tickets: Ticket[],
  c: Palette,
  x: (ticket: Ticket) => number | string | null,
  count: number,
  largest = 20,
) {
  const shown = tickets.filter((t) => t.spot !== null && x(t) !== null).slice(0, count);
  const most = Math.max(1, ...shown.map((t) => t.premium));
  return {
    type: "scatter",
    name: "tickets",
    z: 5,
    data: shown.map((t) => {
      const [symbol, turned] = SHAPES[String(t.side)] ?? ["circle", 0];
      return {
        value: [x(t), t.spot],
        ticket: t,
        symbol,
        symbolRotate: turned,
        symbolSize: 6 + (largest - 6) * Math.sqrt(t.premium / most),
        itemStyle: { color: t.is_call ? c.call : c.put, opacity: 0.75, borderColor: c.paper, borderWidth: 0.8 },
      };
    }),
  };
}
