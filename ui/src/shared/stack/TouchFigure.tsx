import type { Schemas } from "@/shared/api/client";
import { number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";

const WIDTH = 470;
const HEIGHT = 210;
const [LEFT, RIGHT, TOP, BELOW] = [44, 10, 10, 36];

/** How often a price at some distances was touched, solid, and the chance that options gave it, hollow. */
export function TouchFigure({ rows }: { rows: Schemas["AtDistance"][] }) {
  const told = rows.filter((row) => row.touched !== null && row.priced !== null);
  if (told.length === 0) return null;
  const most = Math.max(...told.map((row) => Math.max(row.touched ?? 0, row.priced ?? 0)), 0.1);
  const top = Math.ceil(most * 10) / 10;
  const y = (share: number) => HEIGHT - BELOW - ((HEIGHT - BELOW - TOP) * share) / top;
  const room = (WIDTH - LEFT - RIGHT) / told.length;
  const at = (i: number) => LEFT + room * (i + 0.5);
  const ticks = [0, top / 2, top];
  return (
    <Figure
      title="Touched, by distance"
      className="touch-figure"
      chart={
        <svg
          width={WIDTH}
          height={HEIGHT}
          role="img"
          aria-label="How often prices at some distances were touched, and the chance that options gave them"
        >
          {ticks.map((tick) => (
            <g key={tick} className="tick">
              <line x1={LEFT} x2={WIDTH - RIGHT} y1={y(tick)} y2={y(tick)} />
              <text x={LEFT - 6} y={y(tick) + 4} textAnchor="end">
                {number(100 * tick, 0)} %
              </text>
            </g>
          ))}
          {told.map((row, i) => (
            <g key={row.moves}>
              <rect
                className="came"
                x={at(i) - 5}
                width={10}
                y={y(row.touched ?? 0)}
                height={y(0) - y(row.touched ?? 0)}
              />
              <rect
                className="said"
                x={at(i) - 13}
                width={26}
                y={y(row.priced ?? 0)}
                height={y(0) - y(row.priced ?? 0)}
              />
              <text x={at(i)} y={y(0) + 16} textAnchor="middle">
                {number(row.moves, 2)}
              </text>
            </g>
          ))}
          <text className="axis" x={(LEFT + WIDTH - RIGHT) / 2} y={HEIGHT - 4} textAnchor="middle">
            expected moves away; hollow: what options gave it, solid: how often it came
          </text>
        </svg>
      }
      table={
        <table className="plain-table">
          <thead>
            <tr>
              <th>Moves away</th>
              <th>
                Priced <span className="unit">%</span>
              </th>
              <th>
                Touched <span className="unit">%</span>
              </th>
              <th>Cases</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.moves}>
                <th scope="row">{number(row.moves, 2)}</th>
                <td>{number(row.priced === null ? null : 100 * row.priced, 1)}</td>
                <td>{number(row.touched === null ? null : 100 * row.touched, 1)}</td>
                <td>{number(row.cases)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}
