import type { Schemas } from "@/shared/api/client";
import { compact, count, number, signed } from "@/shared/format";

type Level = Schemas["Level"];
const WIDTH = 152;
const HEIGHT = 24;
const PAD = 9;

/** How many expected moves a list's axis reaches to each side: nearly all of its levels. */
export function reachOf(rows: { levels: Level[] }[]): number {
  const away = rows.flatMap((row) => row.levels.map((level) => Math.abs(level.moves ?? 0))).sort((a, b) => a - b);
  const most = away[Math.floor(0.9 * (away.length - 1))] ?? 4;
  return Math.max(3, Math.min(12, Math.ceil(most)));
}

const place = (moves: number, reach: number) =>
  WIDTH / 2 + (Math.max(-1, Math.min(1, moves / reach)) * (WIDTH - 2 * PAD)) / 2;

/** The axis that all rows share: expected moves from the price. */
export function LevelAxis({ reach }: { reach: number }) {
  const step = reach > 6 ? 4 : reach > 3 ? 2 : 1;
  const marks = Array.from(
    { length: 2 * Math.floor(reach / step) + 1 },
    (_, i) => (i - Math.floor(reach / step)) * step,
  );
  return (
    <svg className="level-axis" width={WIDTH} height={14} aria-hidden="true">
      {marks.map((at) => (
        <text key={at} x={place(at, reach)} y={11} textAnchor="middle">
          {at === 0 ? "price" : signed(at, 0)}
        </text>
      ))}
    </svg>
  );
}

/** A name's levels on the list's axis: solid dots for what was printed, larger for more; the hollow bracket is a day's expected move. */
export function LevelDots({
  levels,
  total,
  reach,
  most,
}: {
  levels: Level[];
  total: number;
  reach: number;
  most: number;
}) {
  const middle = HEIGHT / 2;
  const told = levels.filter((level) => level.moves !== null);
  const words = told.length
    ? `${count(total, "level")}, of the largest ${told.filter((l) => (l.moves ?? 0) > 0).length} above and ${told.filter((l) => (l.moves ?? 0) < 0).length} below the price`
    : "no level";
  const edge = [place(-1, reach), place(1, reach)] as const;
  return (
    <svg className="level-dots" width={WIDTH} height={HEIGHT} role="img" aria-label={words}>
      <path className="axis" d={`M${PAD} ${middle}H${WIDTH - PAD}`} />
      <path className="priced" d={`M${edge[0] + 3} 5h-3v14h3M${edge[1] - 3} 5h3v14h-3`} />
      <path className="now" d={`M${WIDTH / 2} 3v18`} />
      {told.map((level) => {
        const x = place(level.moves ?? 0, reach);
        const r = 1.6 + 5.8 * Math.sqrt(level.notional / most);
        const beyond = Math.abs(level.moves ?? 0) > reach;
        const title = `${number(level.price, 2)}: $${compact(level.notional)}, ${count(level.bursts, "burst")}, ${signed(level.moves, 1)} expected moves away`;
        return beyond ? (
          <path
            key={level.price}
            className="beyond"
            d={(level.moves ?? 0) > 0 ? `M${x + 2} ${middle - 4}l5 4l-5 4` : `M${x - 2} ${middle - 4}l-5 4l5 4`}
          >
            <title>{title}</title>
          </path>
        ) : (
          <circle key={level.price} cx={x} cy={middle} r={r}>
            <title>{title}</title>
          </circle>
        );
      })}
    </svg>
  );
}
