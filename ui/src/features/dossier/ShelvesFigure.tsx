import { useRef } from "react";
import type { Schemas } from "@/shared/api/client";
import type { OwnLineAt } from "@/shared/chart/lineMarks";
import { useSize } from "@/shared/chart/size";
import { clock, compact, count, date, number, signed } from "@/shared/format";

type Data = Schemas["PrintsView"];
type Bar = Data["bars"][number];
const LEFT = 46;
const RIGHT = 150;
const TOP = 8;
const BOTTOM = 20;

/** Price over the window, and beside it on the same axis the prices where prints piled up; tests where they came. */
export function ShelvesFigure({ data, lines }: { data: Data; lines: OwnLineAt[] }) {
  const box = useRef<HTMLDivElement>(null);
  const [width, height] = useSize(box, [660, 330]);
  return (
    <div className="shelves-figure" ref={box}>
      <Drawn data={data} lines={lines} width={width} height={height} />
    </div>
  );
}

function Drawn({ data, lines, width, height }: { data: Data; lines: OwnLineAt[]; width: number; height: number }) {
  const bars = data.bars.filter((bar) => bar.high !== null && bar.low !== null);
  const prices = [
    ...bars.flatMap((bar) => [bar.high as number, bar.low as number]),
    ...data.shelves.flatMap((shelf) => [shelf.low, shelf.high]),
  ];
  if (prices.length === 0) return null;
  const low = Math.min(...prices);
  const high = Math.max(...prices);
  const room = 0.03 * (high - low || 1);
  const y = (price: number) => TOP + (height - TOP - BOTTOM) * (1 - (price - low + room) / (high - low + 2 * room));
  const end = width - RIGHT;
  // Every session is as wide as the others, whether it is one bar or many.
  const sessions = [...new Set(bars.map(dayOf))];
  const wide = (end - LEFT) / Math.max(1, sessions.length);
  const at = new Map(bars.map((bar) => [bar.at, LEFT + wide * (sessions.indexOf(dayOf(bar)) + bar.share)]));
  const x = (bar: { at: string }) => at.get(bar.at) ?? LEFT;
  const most = Math.max(1e-9, ...data.shelves.map((shelf) => shelf.share_pct));
  const tests = data.tests.filter((test) => at.has(test.at));
  const now = data.price;
  const words = `Price of ${data.symbol} over ${count(sessions.length, "session")} with ${count(data.shelves.length, "shelf", "shelves")} beside it and ${count(tests.length, "test")}`;
  return (
    <svg width={width} height={height} role="img" aria-label={words}>
      <title>{words}</title>
      {ticks(low, high).map((price) => (
        <g key={price} className="tick">
          <path d={`M${LEFT} ${y(price)}H${end}`} />
          <text x={LEFT - 6} y={y(price) + 4} textAnchor="end">
            {number(price, price < 20 ? 2 : 1)}
          </text>
        </g>
      ))}
      {data.shelves.map((shelf) => (
        <rect
          key={`band ${shelf.price}`}
          className="band"
          x={LEFT}
          width={end - LEFT}
          y={y(shelf.high)}
          height={Math.max(1, y(shelf.low) - y(shelf.high))}
        />
      ))}
      {[true, false].map((day) => (
        <path
          key={String(day)}
          className="bars"
          d={bars
            .filter((bar) => bar.day === day)
            .map(
              (bar) => `M${x(bar).toFixed(1)} ${y(bar.high as number).toFixed(1)}V${y(bar.low as number).toFixed(1)}`,
            )
            .join("")}
          strokeWidth={day ? Math.max(1, Math.min(5, wide * 0.4)) : Math.max(0.8, (wide / 26) * 0.7)}
        />
      ))}
      {sessions
        .map((day, i) => ({ day, i }))
        .filter(({ i }) => i % Math.ceil(62 / wide) === 0)
        .map(({ day, i }) => (
          <text key={day} className="day" x={LEFT + wide * i + 2}>
            <tspan y={height - 5}>{date(day)}</tspan>
          </text>
        ))}
      {data.shelves.map((shelf) => {
        const length = Math.max(2, ((RIGHT - 74) * shelf.share_pct) / most);
        return (
          <g key={shelf.price} className="shelf">
            <rect x={end + 4} y={y(shelf.price) - 4} width={length} height={8}>
              <title>{`${number(shelf.price, 2)} (${number(shelf.low, 2)} to ${number(shelf.high, 2)}): $${compact(shelf.notional)}, ${number(shelf.share_pct, 1)} % of the window, ${signed(shelf.away_moves, 1)} expected moves away`}</title>
            </rect>
            <text x={end + 9 + length} y={y(shelf.price) + 4}>
              {number(shelf.share_pct, 0)} % <tspan className="muted">{number(shelf.price, 2)}</tspan>
            </text>
          </g>
        );
      })}
      {tests.map((test) => {
        const px = x(test);
        const py = y(test.came_from === "above" ? test.high : test.low);
        return (
          <path
            key={`${test.at} ${test.price}`}
            className={`test ${test.outcome}`}
            d={mark(test.outcome, test.came_from, px, py)}
          >
            <title>{`${date(test.at)} ${clock(test.at)}: reached ${number(test.price, 2)} from ${test.came_from}, ${test.outcome === "open" ? "not decided yet" : test.outcome}`}</title>
          </path>
        );
      })}
      {lines
        .filter(({ price }) => price >= low - room && price <= high + room)
        .map((line) => (
          <g key={line.id} className="own">
            <path d={`M${LEFT} ${y(line.price)}H${width - 2}`} />
            <text x={LEFT + 3} y={y(line.price) - 3}>
              {line.name || number(line.price, 2)}
            </text>
          </g>
        ))}
      {now !== null && (
        <g className="now">
          <path d={`M${LEFT} ${y(now)}H${width - 2}`} />
          <text x={LEFT - 6} y={y(now) + 4} textAnchor="end">
            {number(now, 2)}
          </text>
        </g>
      )}
    </svg>
  );
}

/** Held: turned back, a solid triangle that points away; broke: a cross; not decided: a ring. */
function mark(outcome: string, from: string, x: number, y: number): string {
  if (outcome === "broke") return `M${x - 4} ${y - 4}l8 8M${x + 4} ${y - 4}l-8 8`;
  if (outcome === "open") return `M${x - 4} ${y}a4 4 0 1 0 8 0a4 4 0 1 0 -8 0`;
  const up = from === "above" ? -1 : 1;
  return `M${x} ${y + up * 7}l4.5 ${-up * 8}h-9z`;
}

function ticks(low: number, high: number): number[] {
  const raw = (high - low) / 5 || 1;
  const unit = 10 ** Math.floor(Math.log10(raw));
  const step = ([1, 2, 5, 10].find((n) => n * unit >= raw) ?? 10) * unit;
  const first = Math.ceil(low / step);
  return Array.from({ length: Math.floor(high / step) - first + 1 }, (_, i) =>
    Number(((first + i) * step).toPrecision(10)),
  );
}

const dayOf = (bar: Bar) => bar.at.slice(0, 10);
