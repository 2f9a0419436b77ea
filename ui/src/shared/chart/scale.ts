/** Where values stand between two ends of a drawing, and round values to label. */
export type Scale = { to: (v: number) => number; ticks: number[]; low: number; high: number };

export function scale(values: number[], from: number, to: number): Scale {
  const low = values.length ? Math.min(...values) : 0;
  const high = values.length ? Math.max(...values) : 1;
  const room = 0.04 * (high - low || 1);
  const [a, b] = [low - room, high + room];
  const rough = (b - a) / 6;
  const size = 10 ** Math.floor(Math.log10(rough));
  const step = ([1, 2, 2.5, 5, 10].find((n) => n * size >= rough) ?? 10) * size;
  const ticks = [];
  for (let tick = Math.ceil(a / step) * step; tick <= b; tick += step) ticks.push(tick);
  return { to: (v) => from + ((to - from) * (v - a)) / (b - a), ticks, low: a, high: b };
}

/** Decimals that tell ticks apart. */
export const tickDecimals = (ticks: number[]) => {
  const step = Math.abs((ticks[1] ?? 1) - (ticks[0] ?? 0));
  return step >= 1 ? 0 : Math.min(3, Math.ceil(-Math.log10(step)));
};
