/** One line of chances: where each point stands in percent, and how many cases it rests on. */
export type ChanceLine = {
  key: string;
  label: string;
  points: { said: number; came: number; cases: number }[];
};

const WIDTH = 380;
const HEIGHT = 292;
const LEFT = 44;
const BELOW = 38;
const TOP = 8;
const TICKS = [0, 20, 40, 60, 80, 100];
const x = (percent: number) => LEFT + ((WIDTH - LEFT - 8) * percent) / 100;
const y = (percent: number) => HEIGHT - BELOW - ((HEIGHT - BELOW - TOP) * percent) / 100;

/** What was said against how often it came: on the diagonal chances were true. Hollow is the market's, solid the past's. */
export function ChanceLines({ lines, label }: { lines: ChanceLine[]; label: string }) {
  return (
    <svg className="chance-lines" width={WIDTH} height={HEIGHT} role="img" aria-label={label}>
      {TICKS.map((tick) => (
        <g key={tick} className="tick">
          <line x1={x(tick)} x2={x(tick)} y1={y(0)} y2={y(100)} />
          <line x1={x(0)} x2={x(100)} y1={y(tick)} y2={y(tick)} />
          <text x={x(tick)} y={y(0) + 16} textAnchor="middle">
            {tick}
          </text>
          <text x={LEFT - 6} y={y(tick) + 4} textAnchor="end">
            {tick}
          </text>
        </g>
      ))}
      <line className="diagonal" x1={x(0)} y1={y(0)} x2={x(100)} y2={y(100)} />
      {lines.map((line) => (
        <g key={line.key} className={`chance-line ${line.key}`}>
          <polyline points={line.points.map((point) => `${x(point.said)},${y(point.came)}`).join(" ")} />
          {line.points.map((point) => (
            <circle key={point.said} cx={x(point.said)} cy={y(point.came)} r={4}>
              <title>{`${line.label}: said ${point.said.toFixed(1)} %, came ${point.came.toFixed(1)} %, of ${point.cases}`}</title>
            </circle>
          ))}
        </g>
      ))}
      <text className="axis" x={x(50)} y={HEIGHT - 4} textAnchor="middle">
        said, %
      </text>
      <text className="axis" transform={`translate(11 ${y(50)}) rotate(-90)`} textAnchor="middle">
        came, %
      </text>
    </svg>
  );
}
