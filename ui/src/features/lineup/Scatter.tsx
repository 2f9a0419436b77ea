import { type PointerEvent, useMemo, useRef, useState } from "react";
import type { Schemas, Why } from "@/shared/api/client";
import { useChangeTray, useTray } from "@/shared/api/queries";
import { type Scale, scale, tickDecimals } from "@/shared/chart/scale";
import { useSize } from "@/shared/chart/size";
import { count, metricText, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import type { Row } from "./lines";

type Point = [number, number];
const INSET = { left: 52, right: 18, top: 12, bottom: 36 };

/** Two metrics against each other; a line drawn around names picks them for the tray. */
export function Scatter({
  data,
  source,
  link,
  onFocus,
}: {
  data: Schemas["Lineup"];
  source: string;
  link: string;
  onFocus: (row: Row) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [width, height] = useSize(box, [900, 480]);
  const [loop, setLoop] = useState<Point[]>([]);
  const [picked, setPicked] = useState<string[]>([]);
  const change = useChangeTray();
  const tray = useTray().data;
  const kept = new Set(tray?.items.map((item) => item.symbol));
  const rows = useMemo(() => data.rows.filter((row) => row.x !== null && row.y !== null), [data]);
  const sx = scale(
    rows.map((row) => row.x ?? 0),
    INSET.left,
    width - INSET.right,
  );
  const sy = scale(
    rows.map((row) => row.y ?? 0),
    height - INSET.bottom,
    INSET.top,
  );
  const points = rows.map((row): { row: Row; at: Point } => ({ row, at: [sx.to(row.x ?? 0), sy.to(row.y ?? 0)] }));
  const labels = useMemo(() => placeLabels(points.map((p) => p.at)), [points]);
  const where = (event: PointerEvent): Point => {
    const corner = box.current?.getBoundingClientRect();
    return [event.clientX - (corner?.left ?? 0), event.clientY - (corner?.top ?? 0)];
  };
  const why: Why = {
    page: "Lineup",
    words: `picked among ${source}: ${data.y.label} against ${data.x.label}`,
    link,
    values: {},
  };
  const missing = data.rows.length - rows.length;
  const numbersOf = (row: Row) =>
    Object.fromEntries(
      [[data.x.expression, row.x ?? 0] as const, [data.y.expression, row.y ?? 0] as const].filter(
        ([key]) => key.length <= 40,
      ),
    );
  const values = Object.fromEntries(rows.map((row) => [row.symbol, numbersOf(row)]));
  return (
    <Figure
      title={
        <>
          {data.y.label} <span className="aside">up, against {data.x.label}, across</span>
        </>
      }
      controls={
        <>
          {missing > 0 && <span className="muted">{count(missing, "name")} without both</span>}
          {picked.length > 0 ? (
            <>
              <button
                type="button"
                className="quiet"
                onClick={() =>
                  change.mutate({ kind: "change", change: { op: "add", symbols: picked, why, values, version: null } })
                }
              >
                put {picked.length} in the tray
              </button>
              <button type="button" className="quiet" onClick={() => setPicked([])}>
                let go
              </button>
            </>
          ) : (
            <span className="muted">draw around names to pick them</span>
          )}
        </>
      }
      chart={
        <div
          ref={box}
          className="scatter"
          onPointerDown={(event) => {
            event.currentTarget.setPointerCapture(event.pointerId);
            setLoop([where(event)]);
          }}
          onPointerMove={(event) => loop.length > 0 && setLoop([...loop, where(event)])}
          onPointerUp={() => {
            if (loop.length > 4) setPicked(points.filter(({ at }) => inside(at, loop)).map(({ row }) => row.symbol));
            setLoop([]);
          }}
        >
          <svg
            width={width}
            height={height}
            role="img"
            aria-label={`${data.y.label} against ${data.x.label}, ${rows.length} names`}
          >
            {sx.ticks.map((tick) => (
              <g key={`x${tick}`}>
                <path className="grid" d={`M${sx.to(tick)} ${INSET.top}V${height - INSET.bottom}`} />
                <text x={sx.to(tick)} y={height - INSET.bottom + 15} textAnchor="middle">
                  {metricText(data.x.unit, tickDecimals(sx.ticks), tick)}
                </text>
              </g>
            ))}
            {sy.ticks.map((tick) => (
              <g key={`y${tick}`}>
                <path className="grid" d={`M${INSET.left} ${sy.to(tick)}H${width - INSET.right}`} />
                <text x={INSET.left - 6} y={sy.to(tick) + 4} textAnchor="end">
                  {metricText(data.y.unit, tickDecimals(sy.ticks), tick)}
                </text>
              </g>
            ))}
            <text x={width - INSET.right} y={height - 4} textAnchor="end">
              {data.x.label} {data.x.unit}
            </text>
            {data.x.unit === data.y.unit && <Diagonal sx={sx} sy={sy} />}
            {points.map(({ row, at }, i) => (
              <g
                key={row.symbol}
                className={picked.includes(row.symbol) ? "picked" : kept.has(row.symbol) ? "kept" : undefined}
              >
                <circle cx={at[0]} cy={at[1]} r={4} onPointerEnter={() => onFocus(row)}>
                  <title>{`${row.symbol} ${row.company}: ${number(row.x, data.x.decimals)} across, ${number(row.y, data.y.decimals)} up`}</title>
                </circle>
                {labels[i] && (
                  <text x={at[0] + 6} y={at[1] - 4} className="name">
                    {row.symbol}
                  </text>
                )}
              </g>
            ))}
            {loop.length > 1 && <polygon className="lasso" points={loop.map((p) => p.join(",")).join(" ")} />}
          </svg>
        </div>
      }
      table={
        <table>
          <thead>
            <tr>
              <th>Name</th>
              <th>
                {data.x.label} {data.x.unit}
              </th>
              <th>
                {data.y.label} {data.y.unit}
              </th>
              <th>Pick</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.symbol}>
                <td>{row.symbol}</td>
                <td>{number(row.x, data.x.decimals)}</td>
                <td>{number(row.y, data.y.decimals)}</td>
                <td>
                  <input
                    type="checkbox"
                    aria-label={`Pick ${row.symbol}`}
                    checked={picked.includes(row.symbol)}
                    onChange={() =>
                      setPicked(
                        picked.includes(row.symbol) ? picked.filter((s) => s !== row.symbol) : [...picked, row.symbol],
                      )
                    }
                  />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}

/** Where both are alike. */
function Diagonal({ sx, sy }: { sx: Scale; sy: Scale }) {
  const low = Math.max(sx.low, sy.low);
  const high = Math.min(sx.high, sy.high);
  if (low >= high) return null;
  return <path className="alike" d={`M${sx.to(low)} ${sy.to(low)}L${sx.to(high)} ${sy.to(high)}`} />;
}

/** Labels where no earlier one stands in the way. */
function placeLabels(at: Point[]): boolean[] {
  const placed: Point[] = [];
  return at.map(([x, y]) => {
    if (placed.some(([a, b]) => Math.abs(a - x) < 44 && Math.abs(b - y) < 12)) return false;
    placed.push([x, y]);
    return true;
  });
}

/** Whether a point lies within a closed line: how often a ray from it crosses. */
function inside([x, y]: Point, loop: Point[]): boolean {
  let within = false;
  for (let i = 0, j = loop.length - 1; i < loop.length; j = i++) {
    const [ax, ay] = loop[i] ?? [0, 0];
    const [bx, by] = loop[j] ?? [0, 0];
    if (ay > y !== by > y && x < ((bx - ax) * (y - ay)) / (by - ay) + ax) within = !within;
  }
  return within;
}
