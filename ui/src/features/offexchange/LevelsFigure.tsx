import type { Schemas } from "@/shared/api/client";
import { compact, count, number, signed } from "@/shared/format";

type Row = Schemas["PrintsName"];
const SHOWN = 8;
const WIDTH = 228;
const LINE = 18;

/** The focused name's largest levels by price, beside where price stands. */
export function LevelsFigure({ row, words }: { row: Row; words: string }) {
  const largest = [...row.levels].sort((a, b) => b.notional - a.notional).slice(0, SHOWN);
  const most = Math.max(1, ...largest.map((level) => level.notional));
  const lines = [
    ...largest.map((level) => ({ level, price: level.price })),
    ...(row.price === null ? [] : [{ level: null, price: row.price }]),
  ].sort((a, b) => b.price - a.price);
  return (
    <section className="levels-figure" aria-label={`Levels of ${row.symbol}`}>
      <p>
        <b>{row.position === "none" ? "No prints" : row.position === "none that large" ? "None that large" : words}</b>
        {row.count > 0 && `: ${count(row.count, "level")}`}
        {row.count > SHOWN && `, the largest ${SHOWN} below`}
      </p>
      {largest.length > 0 && (
        <svg
          width={WIDTH}
          height={lines.length * LINE + 2}
          role="img"
          aria-label={lines.map((line) => told(line)).join("; ")}
        >
          {lines.map((line, i) => {
            const y = i * LINE + LINE / 2 + 1;
            return line.level ? (
              <g key={line.price}>
                <text x={46} y={y + 4} textAnchor="end">
                  {number(line.price, 2)}
                </text>
                <rect x={52} y={y - 5} width={Math.max(1, (84 * line.level.notional) / most)} height={10} />
                <text x={178} y={y + 4} textAnchor="end">
                  ${compact(line.level.notional)}
                </text>
                <text x={WIDTH - 2} y={y + 4} textAnchor="end" className="away">
                  {signed(line.level.moves, 1)} σ
                </text>
              </g>
            ) : (
              <g key="now" className="now">
                <path d={`M52 ${y}H${WIDTH}`} />
                <text x={46} y={y + 4} textAnchor="end">
                  {number(line.price, 2)}
                </text>
              </g>
            );
          })}
        </svg>
      )}
      <p className="caption">Solid is what was printed; nobody says whether it was bought or sold.</p>
    </section>
  );
}

const told = ({ level, price }: { level: Schemas["Level"] | null; price: number }) =>
  level
    ? `${number(price, 2)}: $${compact(level.notional)}, ${signed(level.moves, 1)} expected moves away`
    : `the price, ${number(price, 2)}`;
