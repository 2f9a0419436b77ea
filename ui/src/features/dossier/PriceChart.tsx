import { useEffect, useId, useMemo, useRef, useState } from "react";
import { type Chart, makeChart } from "@/shared/chart/EChart";
import type { OwnLineAt } from "@/shared/chart/lineMarks";
import { usePalette } from "@/shared/chart/palette";
import { moment, number, signed } from "@/shared/format";
import {
  barWords,
  type Data,
  firstSpan,
  LEFT,
  levelTags,
  places,
  placeWords,
  priceOption,
  priceRange,
  RIGHT,
  type Span,
  type Tag,
} from "./priceOption";

const LEAST = 8;
/** Pixels from a line within which it is taken hold of. */
const NEAR = 5;
type DrawnLine = { id: number; y: number; words: string; held: boolean };
const cents = (price: number) => Number(price.toFixed(price < 1 ? 4 : 2));
type Cross = { place: number; price: number };

/** A name's bars with their layers. Wheel, two fingers or + and − zoom; a drag or shift with ← → pans; the cross follows mouse and arrows. */
export function PriceChart({
  data,
  volume,
  lines,
  placing,
  onPut,
  onMove,
}: {
  data: Data;
  volume: boolean;
  lines: OwnLineAt[];
  /** The next click puts a line. */
  placing: boolean;
  onPut: (price: number) => void;
  onMove: (id: number, price: number) => void;
}) {
  const palette = usePalette();
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<Chart | null>(null);
  const span = useRef<Span>(firstSpan(data));
  const held = useRef(data);
  const [cross, setCross] = useState<Cross | null>(null);
  const [tags, setTags] = useState<Tag[]>([]);
  const [drawn, setDrawn] = useState<DrawnLine[]>([]);
  const mine = useRef(lines);
  mine.current = lines;
  const dragged = useRef<{ id: number; from: number; price: number } | null>(null);
  const help = useId();

  // Other layers of the same bars leave the view where it is; other bars begin at their newest.
  const same = `${data.symbol} ${data.length} ${data.at.length} ${data.at[0]}`;
  const shown = useRef("");
  held.current = data;

  useEffect(() => {
    if (!box.current) return;
    const made = makeChart(box.current, "canvas");
    chart.current = made;
    const watcher = new ResizeObserver(() => {
      made.resize();
      settle.current();
    });
    watcher.observe(box.current);
    return () => {
      watcher.disconnect();
      made.dispose();
      chart.current = null;
    };
  }, []);

  /** The names of levels, where they are now. */
  const settle = useRef(() => {});
  settle.current = () => {
    const made = chart.current;
    if (!made) return;
    const [low, high] = priceRange(held.current, span.current);
    const y = (value: number) => made.convertToPixel({ gridIndex: 0 }, [0, value])[1] ?? 0;
    const drag = dragged.current;
    const now = mine.current.map((line) => (line.id === drag?.id ? { ...line, price: drag.price } : line));
    setTags(levelTags(held.current, now, y, y(high), y(low)));
    setDrawn(
      now
        .filter(({ price }) => price >= low && price <= high)
        .map((line) => ({ id: line.id, y: y(line.price), words: line.name ?? "", held: line.id === drag?.id })),
    );
  };

  const option = useMemo(() => {
    if (shown.current !== same) span.current = firstSpan(data);
    shown.current = same;
    return priceOption(data, palette, () => span.current, volume);
  }, [data, palette, volume, same]);
  useEffect(() => {
    chart.current?.setOption(option, { notMerge: true });
    settle.current();
  }, [option]);

  // However many moves a frame has, it is drawn once.
  const frame = useRef(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: lines that came, went or moved are drawn anew
  useEffect(() => settle.current(), [lines]);
  const view = (start: number, end: number) => {
    const all = places(held.current) - 1;
    const wide = Math.min(all, Math.max(LEAST, end - start));
    const first = Math.max(0, Math.min(all - wide, start));
    span.current = { start: Math.round(first), end: Math.round(first + wide) };
    frame.current ||= requestAnimationFrame(() => {
      frame.current = 0;
      const { start, end } = span.current;
      chart.current?.dispatchAction({ type: "dataZoom", startValue: start, endValue: end });
      settle.current();
      // What lies under a mouse that stands still is another bar now.
      const under = mouse.current && at(mouse.current.x, mouse.current.y);
      if (under) setCross(under);
    });
  };
  const zoom = (factor: number, around: number) => {
    const { start, end } = span.current;
    view(around - (around - start) * factor, around + (end - around) * factor);
  };
  const pan = (bars: number) => view(span.current.start + bars, span.current.end + bars);
  const at = (x: number, y: number): Cross | null => {
    const [place, price] = chart.current?.convertFromPixel({ gridIndex: 0 }, [x, y]) ?? [];
    return place === undefined || price === undefined ? null : { place: Math.round(place), price };
  };
  const point = (next: Cross) => {
    mouse.current = null;
    const made = chart.current;
    const [x, y] = made?.convertToPixel({ gridIndex: 0 }, [next.place, next.price]) ?? [];
    made?.dispatchAction({ type: "showTip", x, y });
    setCross(next);
  };

  // React hears the wheel passively; here it must not scroll the page.
  const wheel = useRef((_: WheelEvent) => {});
  wheel.current = (event) => {
    event.preventDefault();
    const rect = box.current?.getBoundingClientRect();
    if (!rect) return;
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) pan((event.deltaX / rect.width) * width(span.current));
    else zoom(Math.exp(event.deltaY * 0.0012), at(event.clientX - rect.left, 20)?.place ?? span.current.end);
  };
  useEffect(() => {
    const turned = (event: WheelEvent) => wheel.current(event);
    const element = box.current;
    element?.addEventListener("wheel", turned, { passive: false });
    return () => element?.removeEventListener("wheel", turned);
  }, []);

  const mouse = useRef<{ x: number; y: number } | null>(null);
  const fingers = useRef(new Map<number, { x: number; y: number }>());
  const grip = useRef<{ span: Span; x: number; apart: number } | null>(null);
  const take = () => {
    const [one, two] = [...fingers.current.values()];
    grip.current = one
      ? { span: { ...span.current }, x: two ? (one.x + two.x) / 2 : one.x, apart: two ? Math.abs(one.x - two.x) : 0 }
      : null;
  };
  const pressed = useRef<{ x: number; y: number } | null>(null);
  const release = (finger: number) => {
    fingers.current.delete(finger);
    dragged.current = null;
    take();
    settle.current();
  };
  const moved = (event: React.PointerEvent) => {
    const rect = box.current?.getBoundingClientRect();
    if (!rect) return;
    const here = { x: event.clientX - rect.left, y: event.clientY - rect.top };
    if (fingers.current.has(event.pointerId)) fingers.current.set(event.pointerId, here);
    const drag = dragged.current;
    if (drag) {
      drag.price = cents(at(here.x, here.y)?.price ?? drag.price);
      settle.current();
    }
    const held = drag ? null : grip.current;
    const [one, two] = [...fingers.current.values()];
    if (held && one) {
      const x = two ? (one.x + two.x) / 2 : one.x;
      const plot = rect.width - LEFT - RIGHT;
      const factor = two && held.apart > 8 ? held.apart / Math.max(8, Math.abs(one.x - two.x)) : 1;
      const wide = width(held.span) * factor;
      const under = held.span.start + ((held.x - LEFT) / plot) * width(held.span);
      const start = under - ((x - LEFT) / plot) * wide;
      view(start, start + wide);
    }
    mouse.current = here;
    const next = at(here.x, here.y);
    if (next) setCross(next);
  };

  const keys = (event: React.KeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const from = cross ?? { place: data.at.length - 1, price: data.price ?? data.close.at(-1) ?? 0 };
    const [low, high] = priceRange(data, span.current);
    const step = (bars: number, prices: number) => {
      const place = Math.max(0, Math.min(places(data) - 1, from.place + bars));
      if (place < span.current.start) pan(place - span.current.start);
      if (place > span.current.end) pan(place - span.current.end);
      point({ place, price: Math.min(high, Math.max(low, from.price + prices)) });
    };
    const quarter = Math.max(1, Math.round(width(span.current) / 4));
    const all = places(data) - 1;
    const actions = new Map<string, () => void>([
      ["ArrowLeft", () => (event.shiftKey ? pan(-quarter) : step(-1, 0))],
      ["ArrowRight", () => (event.shiftKey ? pan(quarter) : step(1, 0))],
      ["ArrowUp", () => step(0, (high - low) / (event.shiftKey ? 20 : 100))],
      ["ArrowDown", () => step(0, (low - high) / (event.shiftKey ? 20 : 100))],
      ["l", () => onPut(cents(from.price))],
      ["+", () => zoom(0.7, from.place)],
      ["=", () => zoom(0.7, from.place)],
      ["-", () => zoom(1 / 0.7, from.place)],
      ["Home", () => view(0, width(span.current))],
      ["End", () => view(all - width(span.current), all)],
    ]);
    const action = actions.get(event.key);
    if (!action) return;
    event.preventDefault();
    action();
  };

  const overLine = cross !== null && drawn.some(({ y }) => mouse.current && Math.abs(y - mouse.current.y) <= NEAR);
  const words = `${data.symbol} in bars of ${data.length === "day" ? "a day" : `${data.length} minutes`}`;
  return (
    <div className="price-chart">
      <p className="cross" role="status">
        {cross ? <CrossWords data={data} cross={cross} /> : <span className="muted">{lastWords(data)}</span>}
      </p>
      <div
        ref={box}
        className={placing ? "echart placing" : overLine ? "echart on-line" : "echart"}
        role="application"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: the chart is walked with the keyboard
        tabIndex={0}
        aria-label={words}
        aria-describedby={help}
        onKeyDown={keys}
        onPointerDown={(event) => {
          const rect = event.currentTarget.getBoundingClientRect();
          event.currentTarget.setPointerCapture(event.pointerId);
          const here = { x: event.clientX - rect.left, y: event.clientY - rect.top };
          fingers.current.set(event.pointerId, here);
          pressed.current = here;
          const grabbed = placing ? undefined : drawn.find(({ y }) => Math.abs(y - here.y) <= NEAR);
          const line = lines.find(({ id }) => id === grabbed?.id);
          dragged.current = line ? { id: line.id, from: line.price, price: line.price } : null;
          take();
        }}
        onPointerMove={moved}
        onPointerUp={(event) => {
          const drag = dragged.current;
          const rect = event.currentTarget.getBoundingClientRect();
          const here = { x: event.clientX - rect.left, y: event.clientY - rect.top };
          const price = at(here.x, here.y)?.price;
          const still = Math.hypot(here.x - (pressed.current?.x ?? 0), here.y - (pressed.current?.y ?? 0)) < 4;
          if (drag && drag.price !== drag.from && drag.price > 0) onMove(drag.id, drag.price);
          else if (placing && still && price !== undefined && price > 0) onPut(cents(price));
          release(event.pointerId);
        }}
        onPointerCancel={(event) => release(event.pointerId)}
        onPointerLeave={() => {
          mouse.current = null;
          setCross(null);
        }}
        onDoubleClick={() => {
          const { start, end } = firstSpan(data);
          view(start, end);
        }}
      />
      <svg className="own-lines" aria-hidden="true">
        {drawn.map((line) => (
          <g key={line.id} className={line.held ? "held" : undefined}>
            <path d={`M${LEFT} ${line.y}H4000`} />
            <text x={LEFT + 4} y={line.y - 4}>
              {line.words}
            </text>
          </g>
        ))}
      </svg>
      <svg className="level-tags" aria-hidden="true">
        {tags.map((tag) => (
          <g key={tag.key} className={tag.kind}>
            <path d={`M0 ${tag.y}L8 ${tag.at}`} />
            <text x={11} y={tag.at + 4}>
              {tag.text}
            </text>
          </g>
        ))}
      </svg>
      <p id={help} className="visually-hidden">
        Arrows move the cross, shift and arrows pan, plus and minus zoom, Home and End go to the oldest and newest bar,
        l puts a line at the cross.
      </p>
    </div>
  );
}

const width = (span: Span) => span.end - span.start;

function lastWords(data: Data): string {
  const place = data.at.length - 1;
  return place < 0 ? "" : `${placeWords(data, place)}: ${barWords(data, place)}`;
}

function CrossWords({ data, cross }: { data: Data; cross: Cross }) {
  const away = data.price === null ? null : cross.price - data.price;
  const event = data.events.find(({ bar }) => bar === cross.place);
  const tickets = data.tickets.filter(({ bar }) => bar === cross.place).sort((a, b) => b.premium - a.premium);
  const ticket = tickets[0];
  const told = data.news.find(({ bar }) => bar === cross.place)?.headlines ?? [];
  return (
    <>
      <b>{number(cross.price, 2)}</b> {placeWords(data, cross.place)}
      {away !== null && data.price !== null && (
        <>
          {" "}
          · <b>{signed((100 * away) / data.price, 2)} %</b>
          {data.one_day_move !== null && data.one_day_move > 0 && (
            <>
              , <b>{signed(away / data.one_day_move, 2)} σ</b>
            </>
          )}{" "}
          from {number(data.price, 2)}
        </>
      )}
      <span className="muted">
        {event && ` · ${event.words}`}
        {ticket && ` · ${ticket.words}`}
        {ticket?.since !== null && ticket?.since !== undefined && `, since ${signed(ticket.since, 1)} σ`}
        {tickets.length > 1 && ` and ${tickets.length - 1} more`} · {barWords(data, cross.place)}
        {told[0] && ` · ${moment(told[0].at)}: ${told[0].headline}`}
        {told.length > 1 && ` and ${told.length - 1} more`}
      </span>
    </>
  );
}
