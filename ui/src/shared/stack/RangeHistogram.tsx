import { type KeyboardEvent, type PointerEvent, useEffect, useRef, useState } from "react";
import type { RuleReport, Schemas } from "@/shared/api/client";
import { metricText, rounded } from "@/shared/format";
import type { Range } from "./state";

type Edge = "lower" | "upper";
const WIDTH = 264;
const HEIGHT = 26;
const INSET = 5;

/**
 * The metric among the names that reached the rule, with the range as two edges to drag. At its end an edge is open.
 * `onMove` is called while an edge moves, `onDone` when it is let go.
 */
export function RangeHistogram({
  report,
  range: told,
  histogram,
  aimed,
  onMove,
  onDone: tell,
}: {
  report: Pick<RuleReport, "label" | "unit" | "decimals" | "scale">;
  range: Range;
  histogram: Schemas["Histogram"];
  /** Where an edge would have to stand to reach the wanted number of names. */
  aimed: Schemas["AimEdge"][];
  onMove: (range: Range) => void;
  onDone: (range: Range) => void;
}) {
  const box = useRef<SVGSVGElement>(null);
  const moving = useRef<Range | null>(null);
  // The edges stand where the hand put them until the answer says the same.
  const [held, setHeld] = useState<Range | null>(null);
  const range = held ?? told;
  useEffect(() => {
    if (!held || moving.current) return;
    if (held.lower === told.lower && held.upper === told.upper) return setHeld(null);
    const timer = setTimeout(() => setHeld(null), 3000);
    return () => clearTimeout(timer);
  }, [held, told.lower, told.upper]);
  const onDone = (next: Range) => {
    setHeld(next);
    tell(next);
  };
  const { edges, counts } = histogram;
  const low = edges[0] ?? 0;
  const high = edges.at(-1) ?? 1;
  const log = report.scale === "log" && low > 0;
  const bins = counts.length;
  const tallest = Math.max(1, ...counts);
  const span = WIDTH - 2 * INSET;

  const share = (value: number) =>
    Math.max(0, Math.min(1, log ? Math.log(value / low) / Math.log(high / low) : (value - low) / (high - low)));
  const valueAt = (part: number) => (log ? low * (high / low) ** part : low + (high - low) * part);
  const part = (edge: Edge) => {
    const value = range[edge];
    if (value === null) return edge === "lower" ? 0 : 1;
    return log && value <= 0 ? 0 : share(value);
  };
  const x = (p: number) => INSET + span * p;

  /** The range with one edge at a place between 0 and 1; it cannot pass the other edge. */
  function moved(edge: Edge, place: number): Range {
    const other = part(edge === "lower" ? "upper" : "lower");
    const p = edge === "lower" ? Math.min(place, other) : Math.max(place, other);
    const open = edge === "lower" ? p <= 0.002 : p >= 0.998;
    let value = open ? null : rounded(valueAt(p));
    // Rounding may carry an edge across the other one.
    if (value !== null && edge === "lower" && range.upper !== null) value = Math.min(value, range.upper);
    if (value !== null && edge === "upper" && range.lower !== null) value = Math.max(value, range.lower);
    return { ...range, [edge]: value, [`${edge}Open`]: false };
  }

  function drop() {
    const last = moving.current;
    moving.current = null;
    if (last) onDone(last);
  }

  function drag(edge: Edge) {
    const at = (event: PointerEvent) => {
      const area = box.current?.getBoundingClientRect();
      if (!area) return 0;
      const scale = WIDTH / area.width;
      return ((event.clientX - area.left) * scale - INSET) / span;
    };
    return {
      onPointerDown: (event: PointerEvent<SVGGElement>) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        event.currentTarget.focus();
        event.preventDefault();
        moving.current = range;
      },
      onPointerMove: (event: PointerEvent<SVGGElement>) => {
        if (!moving.current) return;
        moving.current = moved(edge, Math.max(0, Math.min(1, at(event))));
        setHeld(moving.current);
        onMove(moving.current);
      },
      onPointerUp: drop,
      onPointerCancel: drop,
    };
  }

  function key(edge: Edge) {
    return (event: KeyboardEvent<SVGGElement>) => {
      const step = ((event.shiftKey ? 5 : 1) * 1) / bins;
      const here = part(edge);
      if (event.key === "ArrowLeft" || event.key === "ArrowDown") onDone(moved(edge, Math.max(0, here - step)));
      else if (event.key === "ArrowRight" || event.key === "ArrowUp") onDone(moved(edge, Math.min(1, here + step)));
      else if (event.key === "Delete" || event.key === "Backspace") onDone({ ...range, [edge]: null });
      else return;
      event.preventDefault();
      event.stopPropagation();
    };
  }

  const from = part("lower");
  const to = part("upper");
  const text = (edge: Edge) => {
    const value = range[edge];
    return value === null ? "open" : `${metricText(report.unit, report.decimals, value)} ${report.unit}`;
  };
  return (
    <svg ref={box} className="range" viewBox={`0 0 ${WIDTH} ${HEIGHT}`} width={WIDTH} height={HEIGHT}>
      <title>{`Distribution of ${report.label}`}</title>
      {counts.map((n, i) => {
        const inside = (i + 0.5) / bins >= from && (i + 0.5) / bins <= to;
        const tall = n === 0 ? 0 : 2 + (HEIGHT - 5) * Math.sqrt(n / tallest);
        return (
          <rect
            key={edges[i]}
            className={inside ? "bin" : "bin cut"}
            x={x(i / bins) + 0.4}
            y={HEIGHT - 2 - tall}
            width={span / bins - 0.8}
            height={tall}
          />
        );
      })}
      {aimed.map((edge) => (
        <path
          key={edge.edge}
          className="aimed"
          d={`M${x(edge.value === null ? (edge.edge === "lower" ? 0 : 1) : share(edge.value))} 1v${HEIGHT - 3}`}
        />
      ))}
      <path className="floor" d={`M${INSET} ${HEIGHT - 1.5}H${WIDTH - INSET}`} />
      {(["lower", "upper"] as const).map((edge) => {
        const place = x(edge === "lower" ? from : to);
        const lip = edge === "lower" ? 4 : -4;
        return (
          <g
            key={edge}
            className={range[edge] === null ? "edge open" : "edge"}
            role="slider"
            tabIndex={0}
            aria-label={`${report.label}, ${edge} edge`}
            aria-valuemin={low}
            aria-valuemax={high}
            aria-valuenow={range[edge] ?? (edge === "lower" ? low : high)}
            aria-valuetext={text(edge)}
            onKeyDown={key(edge)}
            {...drag(edge)}
          >
            <rect className="grip" x={place - 7 + lip / 2} y={0} width={14} height={HEIGHT} />
            <path d={`M${place + lip} 1.5H${place}V${HEIGHT - 1.5}H${place + lip}`} />
          </g>
        );
      })}
    </svg>
  );
}
