/** A year at a glance: implied as a hollow line, historical as a solid area. */
export function VolatilitySpark({
  implied,
  historical,
  width = 232,
  height = 74,
}: {
  implied: (number | null)[];
  historical: (number | null)[];
  width?: number;
  height?: number;
}) {
  const known = [...implied, ...historical].filter((v): v is number => v !== null);
  if (known.length === 0) return <p className="muted small">No volatility in the last year.</p>;
  const top = Math.max(...known) * 1.05;
  const x = (i: number) => (i / Math.max(1, implied.length - 1)) * (width - 4) + 2;
  const y = (v: number) => height - 2 - (v / top) * (height - 6);
  return (
    <svg
      className="spark"
      width={width}
      height={height}
      role="img"
      aria-label="One year of implied (hollow line) and historical volatility (solid area)"
    >
      <path className="did-area" d={area(historical, x, y, height - 2)} />
      <path className="priced-outer" d={line(implied, x, y)} />
      <path className="priced-inner" d={line(implied, x, y)} />
    </svg>
  );
}

type Scale = (value: number) => number;

function line(values: (number | null)[], x: Scale, y: Scale): string {
  let path = "";
  let down = false;
  values.forEach((value, i) => {
    if (value !== null) path += `${down ? "L" : "M"}${x(i).toFixed(1)} ${y(value).toFixed(1)}`;
    down = value !== null;
  });
  return path;
}

function area(values: (number | null)[], x: Scale, y: Scale, floor: number): string {
  let path = "";
  let start = -1;
  const close = (end: number) => {
    if (start >= 0) path += `L${x(end).toFixed(1)} ${floor}L${x(start).toFixed(1)} ${floor}Z`;
    start = -1;
  };
  values.forEach((value, i) => {
    if (value === null) close(i - 1);
    else {
      path += `${start < 0 ? "M" : "L"}${x(i).toFixed(1)} ${y(value).toFixed(1)}`;
      if (start < 0) start = i;
    }
  });
  close(values.length - 1);
  return path;
}

/**
 * Closes as a solid line, and at its end the move that options price for the next thirty days as a hollow fan that opens
 * from the last price.
 */
export function PriceSpark({
  close,
  fan,
  shares,
  width,
  height,
}: {
  close: (number | null)[];
  /** Half-widths at shares of the time ahead. */
  fan: (number | null)[];
  shares: number[];
  width: number;
  height: number;
}) {
  const known = close.filter((v): v is number => v !== null);
  const last = known.at(-1);
  if (last === undefined) return <p className="muted small">No price in this time.</p>;
  const reach = fan.at(-1) ?? 0;
  const top = Math.max(...known, last + reach);
  const bottom = Math.min(...known, last - reach);
  const room = Math.min(0.22 * width, 46);
  const x = (i: number) => 2 + (i / Math.max(1, close.length - 1)) * (width - 6 - room);
  const y = (v: number) => 3 + ((top - v) / Math.max(top - bottom, 1e-9)) * (height - 6);
  const start = x(close.length - 1);
  const edge = (sign: number) =>
    shares.map(
      (s, i) => `${i ? "L" : "M"}${(start + s * room).toFixed(1)} ${y(last + sign * (fan[i] ?? 0)).toFixed(1)}`,
    );
  return (
    <svg
      className="spark"
      width={width}
      height={height}
      role="img"
      aria-label="Closes, and the move priced for the next thirty days as a hollow fan"
    >
      <path className="did-line" d={line(close, x, y)} />
      {reach > 0 && <path className="fan" d={`${edge(1).join("")}${edge(-1).join("")}`} />}
    </svg>
  );
}
