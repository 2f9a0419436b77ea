import { type KeyboardEvent, useRef } from "react";
import type { Metric, Schemas } from "@/shared/api/client";
import { scale, tickDecimals } from "@/shared/chart/scale";
import { useSize } from "@/shared/chart/size";
import { count, metricText, number } from "@/shared/format";
import type { Search } from "@/shared/stack/state";

type Front = Schemas["Front"];
type Axis = Schemas["FrontAxis"];
const INSET = { left: 56, right: 20, top: 14, bottom: 34 };

const MOST_AXES = 4;
const AXES = [
  "chance_of_profit_past",
  "chance_of_profit_market",
  "chance_of_profit_forecast",
  "return_on_capital",
  "return_at_target",
  "edge_past",
  "edge_forecast",
  "shortfall_past",
  "delta",
  "theta_on_capital",
  "-cost",
  "-capital",
  "-quoted_width_pct",
];

/** All that survive on two axes, and those that no other beats: walked with the arrow keys, the knee named. */
export function FrontFigure({
  front,
  metrics,
  focused,
  search,
  onFocus,
  onOpen,
  onAxes,
}: {
  front: Front;
  metrics: Metric[];
  focused: string | null;
  search: Search;
  onFocus: (key: string) => void;
  onOpen: (row: { key: string }) => void;
  onAxes: (front: string[]) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [width, height] = useSize(box, [700, 300]);
  const [across, up] = front.axes as [Axis, Axis];
  const wrong = front.axes.find((axis) => axis.error);
  const { cells } = front;
  const xs = [...cells.x, ...front.places.map((place) => place[0] ?? 0)];
  const ys = [...cells.y, ...front.places.map((place) => place[1] ?? 0)];
  const sx = scale(xs, INSET.left, width - INSET.right);
  const sy = scale(ys, height - INSET.bottom, INSET.top);
  const most = Math.max(1, ...cells.count);
  const at = front.points.findIndex((point) => point.key === focused);
  const places = front.places.map(([x = 0, y = 0]) => [sx.to(x), sy.to(y)] as const);
  const line = front.axes.length === 2 ? places.map(([x, y], i) => `${i === 0 ? "M" : "L"}${x} ${y}`).join("") : "";
  function key(event: KeyboardEvent) {
    const knee = front.knee ?? undefined;
    const next = { ArrowRight: at + 1, ArrowLeft: at - 1, Home: 0, End: front.points.length - 1, ArrowUp: knee }[
      event.key
    ];
    const point = front.points[Math.max(0, Math.min(front.points.length - 1, next ?? at))];
    if (event.key === "Enter" && at >= 0 && point) return onOpen(point);
    if (next === undefined || !point) return;
    event.preventDefault();
    onFocus(point.key);
  }
  const named = [front.knee, at].filter((place): place is number => place !== null && place >= 0);
  // Of axes that are not drawn the value is told beside the name.
  const beyond = (place: number) =>
    front.axes
      .slice(2)
      .map((axis, at) => `${axis.label} ${told(axis, front.places[place]?.[at + 2])}`)
      .join(", ");
  const chance = across.key.startsWith("chance_of_profit_");
  return (
    <section className="front-figure" aria-label="The front">
      <header>
        <span>
          <AxisChoice
            label="Axis up"
            value={search.front[1] ?? ""}
            metrics={metrics}
            onChange={(axis) => onAxes([search.front[0] ?? "", axis, ...search.front.slice(2)])}
          />{" "}
          against{" "}
          <AxisChoice
            label="Axis across"
            value={search.front[0] ?? ""}
            metrics={metrics}
            onChange={(axis) => onAxes([axis, ...search.front.slice(1)])}
          />
          {search.front.slice(2).map((axis, place) => (
            <span key={axis}>
              {" "}
              and{" "}
              <AxisChoice
                label={`Axis ${place + 3}`}
                value={axis}
                metrics={metrics}
                onChange={(next) => onAxes(search.front.map((old, at) => (at === place + 2 ? next : old)))}
              />{" "}
              <button
                type="button"
                className="quiet"
                aria-label={`Without axis ${place + 3}`}
                onClick={() => onAxes(search.front.filter((_, at) => at !== place + 2))}
              >
                ×
              </button>
            </span>
          ))}
          {search.front.length < MOST_AXES && (
            <>
              {" "}
              <button
                type="button"
                className="quiet"
                title="What no other beats may be better on one more axis"
                onClick={() => onAxes([...search.front, AXES.find((axis) => !search.front.includes(axis)) ?? ""])}
              >
                one more axis
              </button>
            </>
          )}
        </span>
        <span className="muted">
          {count(front.total, "structure")} no other beats
          {front.total > front.points.length && `, ${front.points.length} shown`}
          {front.knee !== null && "; the knee (↑) is named"}
        </span>
      </header>
      {wrong ? (
        <p role="alert">{wrong.error}</p>
      ) : (
        <div
          ref={box}
          className="front-chart"
          // biome-ignore lint/a11y/noNoninteractiveTabindex: the front is walked with the arrow keys
          tabIndex={0}
          role="application"
          aria-label={`${up.label} against ${across.label}: ${count(front.total, "structure")} on the front; walk with the arrow keys, up to the knee, Enter opens`}
          onKeyDown={key}
        >
          <svg width={width} height={height} aria-hidden="true">
            {sx.ticks.map((tick) => (
              <g key={`x${tick}`}>
                <path className="grid" d={`M${sx.to(tick)} ${INSET.top}V${height - INSET.bottom}`} />
                <text x={sx.to(tick)} y={height - INSET.bottom + 15} textAnchor="middle">
                  {number(tick, tickDecimals(sx.ticks))}
                </text>
              </g>
            ))}
            {sy.ticks.map((tick) => (
              <g key={`y${tick}`}>
                <path className="grid" d={`M${INSET.left} ${sy.to(tick)}H${width - INSET.right}`} />
                <text x={INSET.left - 6} y={sy.to(tick) + 4} textAnchor="end">
                  {number(tick, tickDecimals(sy.ticks))}
                </text>
              </g>
            ))}
            <text x={width - INSET.right} y={height - 4} textAnchor="end">
              {across.label} {across.unit}
            </text>
            <text x={INSET.left} y={INSET.top - 3}>
              {up.label} {up.unit}
            </text>
            {cells.count.map((many, i) => (
              <rect
                key={`${cells.x[i]} ${cells.y[i]}`}
                className="cell"
                x={sx.to(cells.x[i] ?? 0) - 2}
                y={sy.to(cells.y[i] ?? 0) - 2}
                width={4}
                height={4}
                opacity={0.18 + (0.6 * Math.log1p(many)) / Math.log1p(most)}
              />
            ))}
            {line && <path className="front-line" d={line} />}
            {front.points.map((point, i) => {
              const [x, y] = places[i] ?? [0, 0];
              const [market, past] = point.chances;
              return (
                // biome-ignore lint/a11y/noStaticElementInteractions: the same is done with the keys
                <g
                  key={point.key}
                  className={i === at ? "point chosen" : "point"}
                  onClick={() => onFocus(point.key)}
                  onDoubleClick={() => onOpen(point)}
                >
                  {chance &&
                    i === at &&
                    market !== null &&
                    market !== undefined &&
                    past !== null &&
                    past !== undefined && (
                      <>
                        <path className="span" d={`M${sx.to(market)} ${y}H${sx.to(past)}`} />
                        <circle className="hollow" cx={sx.to(market)} cy={y} r={5} />
                      </>
                    )}
                  <circle cx={x} cy={y} r={i === at ? 5.5 : 4} />
                  <title>{`${point.symbol} ${point.label} ${point.words}: ${up.label} ${told(up, front.places[i]?.[1])}, ${across.label} ${told(across, front.places[i]?.[0])}${beyond(i) && `, ${beyond(i)}`}`}</title>
                </g>
              );
            })}
            {[...new Set(named)].map((place) => {
              const [x, y] = places[place] ?? [0, 0];
              const end = x > width * 0.62;
              const point = front.points[place];
              return point ? (
                <text
                  key={point.key}
                  className="name"
                  x={end ? x - 9 : x + 9}
                  y={y - 8}
                  textAnchor={end ? "end" : "start"}
                >
                  {point.symbol} {point.label}
                  {beyond(place) && `, ${beyond(place)}`}
                </text>
              ) : null;
            })}
          </svg>
        </div>
      )}
    </section>
  );
}

const told = (axis: Axis, value: number | undefined) => `${metricText(axis.unit, axis.decimals, value)} ${axis.unit}`;

function AxisChoice({
  label,
  value,
  metrics,
  onChange,
}: {
  label: string;
  value: string;
  metrics: Metric[];
  onChange: (axis: string) => void;
}) {
  const names = new Map(metrics.map((metric) => [metric.key, metric.label]));
  const words = (axis: string) => {
    const name = names.get(axis.replace(/^-/, "")) ?? axis.replace(/^-/, "");
    return axis.startsWith("-") ? `${name}, less is better` : name;
  };
  return (
    <select aria-label={label} value={value} onChange={(event) => onChange(event.target.value)}>
      {[...new Set([...AXES, value])].map((axis) => (
        <option key={axis} value={axis}>
          {words(axis)}
        </option>
      ))}
    </select>
  );
}
