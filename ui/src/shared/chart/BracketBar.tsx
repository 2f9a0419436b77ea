import { number, signed } from "@/shared/format";

type Size = { width?: number; height?: number };

/**
 * Implied against historical volatility in a table cell: a hollow bracket from zero to what options price, a solid bar
 * from zero to what the stock did. A bar that ends inside the bracket: options are dear; one that breaks out: cheap.
 */
export function LevelBracket({
  implied,
  historical,
  most,
  width = 108,
  height = 18,
}: { implied: number | null; historical: number | null; most: number } & Size) {
  const x = (value: number) => 3 + (width - 8) * Math.min(1, value / most);
  const label = `implied ${number(implied, 1)} %, historical ${number(historical, 1)} %`;
  const over = (value: number | null) => value !== null && value > most;
  return (
    <svg className="bracket-bar" width={width} height={height} role="img" aria-label={label}>
      <title>{label}</title>
      {historical !== null && (
        <rect className="did" x={3} y={height / 2 - 3} width={Math.max(1, x(historical) - 3)} height={6} />
      )}
      {implied !== null && (
        <path className="priced" d={`M7 2.5H3v${height - 5}h4M${x(implied) - 4} 2.5h4v${height - 5}h-4`} />
      )}
      {(over(implied) || over(historical)) && <path className="did" d={`M${width - 4} ${height / 2 - 3}l4 3-4 3z`} />}
    </svg>
  );
}

/**
 * A move against the move that was priced: the bracket spans one standard deviation to both sides of the previous close,
 * the bar runs from there to where the price is. `span` is the move at the ends; what lies beyond is drawn there.
 */
export function MoveBracket({
  moved,
  expected,
  width = 108,
  height = 18,
  span = Math.max((expected ?? 0) * 2, Math.abs(moved ?? 0), 1e-9),
}: { moved: number | null; expected: number | null; span?: number } & Size) {
  const middle = width / 2;
  const x = (value: number) => middle + ((width / 2 - 3) * Math.max(-span, Math.min(span, value))) / span;
  const label = [
    moved === null ? null : `moved ${signed(moved, 2)} %`,
    expected === null ? "no move priced" : `±${number(expected, 2)} % priced`,
  ]
    .filter(Boolean)
    .join(", ");
  const low = expected === null ? 0 : x(-expected);
  const high = expected === null ? 0 : x(expected);
  const lip = Math.min(6, height / 4 + 1);
  return (
    <svg className="bracket-bar" width={width} height={height} role="img" aria-label={label}>
      <title>{label}</title>
      <path className="axis" d={`M${middle} 1v${height - 2}`} />
      {moved !== null && (
        <rect
          className="did"
          x={Math.min(middle, x(moved))}
          y={height / 2 - height / 6}
          width={Math.max(1, Math.abs(x(moved) - middle))}
          height={height / 3}
        />
      )}
      {expected !== null && (
        <path
          className="priced"
          d={`M${low + lip} 2.5H${low}v${height - 5}h${lip}M${high - lip} 2.5H${high}v${height - 5}h${-lip}`}
        />
      )}
    </svg>
  );
}
