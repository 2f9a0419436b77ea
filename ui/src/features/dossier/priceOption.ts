import { type EChartsCoreOption, graphic } from "echarts/core";
import type { Schemas } from "@/shared/api/client";
import type { OwnLineAt } from "@/shared/chart/lineMarks";
import { chartBase, type Palette, valueAxis } from "@/shared/chart/palette";
import { fans } from "@/shared/chart/series";
import { ticketMarks } from "@/shared/chart/ticketMarks";
import { clock, compact, date, metricText, number } from "@/shared/format";

export type Data = Schemas["PriceView"];
/** First and last place shown. */
export type Span = { start: number; end: number };

export const LEFT = 52;
export const RIGHT = 136;
const BELOW = 64;
const VOLUME_SHARE = 0.13;

/** What stands on the axis: the bars, and after them the sessions that a fan reaches. */
export const places = (data: Data) => data.at.length + data.ahead.length;

const AT_FIRST = { day: 126, "60": 70, "15": 104, "5": 156, "1": 195 } as const;

/** The newest bars, about as many as can be told apart, and what lies ahead of them. */
export function firstSpan(data: Data): Span {
  const end = places(data) - 1;
  return { start: Math.max(0, data.at.length - AT_FIRST[data.length]), end };
}

/** Prices between which the bars of a span lie, and of its layers what does not make the bars small. */
export function priceRange(data: Data, span: Span): [number, number] {
  let low = Number.POSITIVE_INFINITY;
  let high = Number.NEGATIVE_INFINITY;
  const last = Math.min(span.end, data.at.length - 1);
  for (let i = Math.max(0, span.start); i <= last; i++) {
    low = Math.min(low, data.low[i] ?? low);
    high = Math.max(high, data.high[i] ?? high);
  }
  if (!(high >= low)) return [0, 1];
  const room = Math.max(0.6 * (high - low), 0.004 * high);
  let [bottom, top] = [low, high];
  const reach = (value: number | null | undefined) => {
    if (value === null || value === undefined) return;
    bottom = Math.min(bottom, Math.max(value, low - room));
    top = Math.max(top, Math.min(value, high + room));
  };
  for (const line of data.lines) for (let i = Math.max(0, span.start); i <= last; i++) reach(line.values[i]);
  for (const fan of data.fans)
    if ((fan.bars.at(-1) ?? -1) >= span.start && (fan.bars[0] ?? 0) <= span.end) {
      reach(Math.min(...fan.lower));
      reach(Math.max(...fan.upper));
    }
  const edge = 0.04 * (top - bottom || top);
  return [bottom - edge, top + edge];
}

/** Many lines in one shape: each as x, y, x, y. */
const Strokes = graphic.extendShape({
  shape: { lines: [] as number[] },
  buildPath(path: CanvasRenderingContext2D, { lines }: { lines: number[] }) {
    for (let i = 0; i + 3 < lines.length; i += 4) {
      path.moveTo(lines[i] ?? 0, lines[i + 1] ?? 0);
      path.lineTo(lines[i + 2] ?? 0, lines[i + 3] ?? 0);
    }
  },
});
/** Many boxes in one shape: each as x, y, width, height. */
const Boxes = graphic.extendShape({
  shape: { boxes: [] as number[] },
  buildPath(path: CanvasRenderingContext2D, { boxes }: { boxes: number[] }) {
    for (let i = 0; i + 3 < boxes.length; i += 4)
      path.rect(boxes[i] ?? 0, boxes[i + 1] ?? 0, boxes[i + 2] ?? 0, boxes[i + 3] ?? 0);
  },
});
/** A line through points, broken where one is missing. */
const Trace = graphic.extendShape({
  shape: { points: [] as number[] },
  buildPath(path: CanvasRenderingContext2D, { points }: { points: number[] }) {
    let down = false;
    for (let i = 0; i + 1 < points.length; i += 2) {
      const y = points[i + 1] ?? Number.NaN;
      if (Number.isNaN(y)) down = false;
      else if (down) path.lineTo(points[i] ?? 0, y);
      else {
        path.moveTo(points[i] ?? 0, y);
        down = true;
      }
    }
  },
});
graphic.registerShape("strokes", Strokes);
graphic.registerShape("boxes", Boxes);
graphic.registerShape("trace", Trace);

type Api = { coord: (point: [number, number]) => [number, number] };
type Params = { coordSys: { x: number; y: number; width: number; height: number } };
type Shape = Record<string, unknown>;

/** Shapes of our own that belong to no bar: they are drawn whole, whichever bars are in view. */
const overlay = (z: number, draw: (api: Api, box: Params["coordSys"]) => Shape[], more: object = {}) => ({
  type: "custom",
  silent: true,
  clip: true,
  z,
  data: [[0, 0]],
  encode: { x: -1, y: -1 },
  renderItem: (params: Params, api: Api) => ({ type: "group", children: draw(api, params.coordSys) }),
  ...more,
});

const line = (x1: number, y1: number, x2: number, y2: number, stroke: string, lineWidth = 1, lineDash?: number[]) => ({
  type: "line",
  shape: { x1, y1, x2, y2 },
  style: { stroke, lineWidth, lineDash },
});

/** What a place on the axis is called. */
export function placeWords(data: Data, place: number): string {
  const at = data.at[place];
  const day = at === undefined ? data.ahead[place - data.at.length] : data.sessions[data.day[place] ?? 0];
  if (!day) return "";
  return data.length === "day" || at === undefined ? date(day, true) : `${date(day)} ${clock(at).slice(0, 5)}`;
}

/** Runs of bars outside regular hours. */
function outsideHours(data: Data): [number, number][] {
  const runs: [number, number][] = [];
  data.regular.forEach((regular, i) => {
    const run = runs.at(-1);
    if (regular) return;
    if (run && run[1] === i - 1) run[1] = i;
    else runs.push([i, i]);
  });
  return runs;
}

/** Where each session after the first begins. */
const begins = (data: Data) => data.day.flatMap((day, i) => (i > 0 && day !== data.day[i - 1] ? [i] : []));

type Tone = [width: number, dash: number[] | undefined, opacity: number];
const THIN: Tone = [1, undefined, 0.6];
const BAND: Tone = [1, [5, 2], 0.75];
const TONES: Tone[] = [
  [1.5, undefined, 0.95],
  [1.5, undefined, 0.5],
  [1.2, [7, 3], 0.8],
  [1.2, [2, 2.5], 0.8],
];

/** `span` says what is in view, now and whenever the chart is drawn again. */
export function priceOption(data: Data, c: Palette, span: () => Span, withVolume: boolean): EChartsCoreOption {
  const count = places(data);
  const labels = Array.from({ length: count }, (_, i) => String(i));
  const intraday = data.length !== "day";
  const starts = intraday ? begins(data) : [];
  const months = data.sessions.flatMap((day, i) =>
    i > 0 && data.sessions[i - 1]?.slice(0, 7) !== day.slice(0, 7) ? [i] : [],
  );
  const marked = new Set(intraday ? [0, ...starts] : months);
  const bottom = 24 + BELOW * data.below.length;
  const axis = {
    type: "category",
    data: labels,
    boundaryGap: true,
    axisLine: { lineStyle: { color: c.rule }, onZero: false },
    axisTick: { show: false },
    axisPointer: {
      label: { formatter: ({ value }: { value: string }) => placeWords(data, Number(value)) },
    },
    axisLabel: {
      color: c.muted,
      hideOverlap: true,
      interval: (i: number) => marked.has(i),
      formatter: (value: string) => axisWords(data, Number(value), intraday),
    },
  };
  const silent = { ...axis, axisLabel: { show: false }, axisPointer: { label: { show: false } } };
  const panes = data.below.map((_, i) => ({ gridIndex: 1 + i, bottom: 24 + BELOW * (data.below.length - 1 - i) }));
  const lowest = panes.length;
  const sides = { left: LEFT, right: RIGHT, outerBoundsMode: "none" };
  const pointer = {
    label: { backgroundColor: c.ink, color: c.paper, borderRadius: 0, padding: [2, 5], fontSize: 12 },
    lineStyle: { color: c.muted, type: [3, 3] },
    crossStyle: { color: c.muted, type: [3, 3] },
  };
  return {
    ...chartBase(c),
    // A canvas inherits nothing.
    textStyle: { fontFamily: getComputedStyle(document.body).fontFamily, color: c.ink },
    tooltip: { trigger: "axis", showContent: false, axisPointer: { type: "cross", snap: false, ...pointer } },
    axisPointer: { link: [{ xAxisIndex: "all" }] },
    grid: [
      { ...sides, top: 6, bottom },
      ...panes.map((pane) => ({ ...sides, height: BELOW - 18, bottom: pane.bottom })),
    ],
    xAxis: [
      { ...(lowest === 0 ? axis : silent) },
      ...panes.map((pane, i) => ({ ...(i + 1 === lowest ? axis : silent), gridIndex: pane.gridIndex })),
    ],
    yAxis: [
      valueAxis(c, {
        min: () => priceRange(data, span())[0],
        max: () => priceRange(data, span())[1],
        axisLabel: { color: c.muted, showMinLabel: false, showMaxLabel: false },
        axisPointer: { label: { precision: 2 } },
      }),
      ...data.below.map((below, i) => ({
        type: "value",
        scale: true,
        gridIndex: 1 + i,
        splitNumber: 2,
        name: below.label.slice(0, 60),
        nameLocation: "end",
        nameGap: 3,
        nameTextStyle: { color: c.muted, align: "left", fontSize: 12 },
        axisPointer: { show: false },
        axisLabel: {
          color: c.muted,
          fontSize: 12,
          formatter: (v: number) => metricText(below.unit, Math.min(1, below.decimals), v),
        },
        splitLine: { lineStyle: { color: c.rule } },
      })),
    ],
    dataZoom: [
      {
        type: "inside",
        disabled: true,
        xAxisIndex: Array.from({ length: 1 + panes.length }, (_, i) => i),
        filterMode: "filter",
        startValue: span().start,
        endValue: span().end,
      },
    ],
    series: [
      under(data, c, starts),
      // The cross asks for a series on the axis.
      { type: "line", silent: true, symbol: "none", data: [[0, null]] },
      bars(data, c, span, withVolume),
      ...data.below.map((below, i) => ({
        type: "line",
        silent: true,
        xAxisIndex: 1 + i,
        yAxisIndex: 1 + i,
        data: below.values,
        symbol: "none",
        lineStyle: { color: c.solid, width: 1.2 },
      })),
      {
        ...fans(
          data.fans
            .filter((fan) => fan.bars.length > 1)
            .map((fan) => ({
              points: fan.bars.flatMap((bar, i): [number, number, number][] =>
                i % Math.ceil(fan.bars.length / 60) === 0 || i === fan.bars.length - 1
                  ? [[bar, fan.lower[i] ?? 0, fan.upper[i] ?? 0]]
                  : [],
              ),
              faint: !fan.current,
            })),
          c,
        ),
        encode: { x: -1, y: -1 },
      },
      over(data, c),
      { ...ticketMarks(data.tickets, c, (ticket) => ticket.bar, 40, 15), silent: true },
    ],
  };
}

function axisWords(data: Data, place: number, intraday: boolean): string {
  const day = data.sessions[data.day[place] ?? 0] ?? "";
  if (intraday) return date(day);
  return day.slice(5, 7) === "01" ? day.slice(0, 4) : date(day).replace(/^\d+ /, "");
}

/** The bars, solid: what the stock did; the averages and bands made of them; and volume at the foot. */
function bars(data: Data, c: Palette, span: () => Span, withVolume: boolean) {
  return overlay(3, (api, box) => {
    const { start, end } = span();
    const first = Math.max(0, start);
    const last = Math.min(data.at.length - 1, end);
    const [left, zero] = api.coord([0, 0]);
    const wide = api.coord([1, 0])[0] - left;
    const high = zero - api.coord([0, 1])[1];
    const x = (place: number) => left + place * wide;
    const y = (price: number | null | undefined) => (typeof price === "number" ? zero - price * high : Number.NaN);
    const body = Math.max(1, Math.min(9, 0.62 * wide));
    const rose = { lines: [] as number[], boxes: [] as number[] };
    const fell = { lines: [] as number[], boxes: [] as number[] };
    // Bars narrower than a pixel are drawn some together.
    const step = Math.max(1, Math.floor(1.2 / wide));
    const heap = Math.max(1, Math.floor(3 / wide));
    const shares: number[] = [];
    for (let i = first; i <= last; i += step) {
      const upto = Math.min(last, i + step - 1);
      let [top, bottom] = [data.high[i] ?? 0, data.low[i] ?? 0];
      for (let k = i; k <= upto; k++) {
        top = Math.max(top, data.high[k] ?? top);
        bottom = Math.min(bottom, data.low[k] ?? bottom);
        const place = Math.floor((k - first) / heap);
        shares[place] = (shares[place] ?? 0) + (data.volume[k] ?? 0);
      }
      const [open, close] = [y(data.open[i]), y(data.close[upto])];
      const at = x((i + upto) / 2);
      const one = close <= open ? rose : fell;
      one.lines.push(at, y(top), at, y(bottom));
      if (wide > 2) one.boxes.push(at - body / 2, Math.min(open, close), body, Math.max(1, Math.abs(open - close)));
    }
    const most = Math.max(1, ...shares);
    const volume = !withVolume
      ? []
      : shares.flatMap((one, i) => {
          const height = (VOLUME_SHARE * box.height * one) / most;
          return [x(first + i * heap - 0.38), box.y + box.height - height, (heap - 0.24) * wide, height];
        });
    const shapes: Shape[] = [{ type: "boxes", shape: { boxes: volume }, style: { fill: c.solid, opacity: 0.22 } }];
    for (const [color, one] of [
      [c.solid, rose],
      [c.ink, fell],
    ] as const) {
      shapes.push({
        type: "strokes",
        shape: { lines: one.lines },
        style: { stroke: color, lineWidth: 1, fill: "none" },
      });
      shapes.push({ type: "boxes", shape: { boxes: one.boxes }, style: { fill: color } });
    }
    const averages = data.lines.filter(({ layer }) => layer === "averages");
    for (const one of data.lines) {
      const tone = averages.includes(one) ? (TONES[averages.indexOf(one)] ?? THIN) : BAND;
      const points: number[] = [];
      for (let i = Math.max(0, first - step); i <= Math.min(data.at.length - 1, last + step); i += step)
        points.push(x(i), y(one.values[i]));
      const [lineWidth, lineDash, opacity] = one.layer === "keltner" ? ([1, [1.5, 2], 0.75] as const) : tone;
      const color = averages.includes(one) ? c.accent : c.ink;
      shapes.push({
        type: "trace",
        shape: { points },
        style: { stroke: color, fill: "none", lineWidth, lineDash, opacity },
      });
    }
    return shapes;
  });
}

/** Behind the bars: hours outside the session, where sessions begin, open gaps, shelves. */
function under(data: Data, c: Palette, starts: number[]) {
  return overlay(1, (api, box) => {
    const right = box.x + box.width;
    const half = (api.coord([1, 0])[0] - api.coord([0, 0])[0]) / 2;
    const shapes: Shape[] = outsideHours(data).map(([first, last]) => ({
      type: "rect",
      shape: {
        x: api.coord([first, 0])[0] - half,
        y: box.y,
        width: api.coord([last, 0])[0] - api.coord([first, 0])[0] + 2 * half,
        height: box.height,
      },
      style: { fill: c.wash },
    }));
    for (const start of starts) {
      const x = api.coord([start, 0])[0] - half;
      shapes.push(line(x, box.y, x, box.y + box.height, c.rule));
    }
    for (const gap of data.gaps) {
      const [x, fill] = api.coord([gap.bar, gap.fill]);
      const reached = api.coord([0, gap.reached])[1];
      shapes.push({
        type: "rect",
        shape: {
          x,
          y: Math.min(fill, reached),
          width: Math.max(0, right - x),
          height: Math.max(1, Math.abs(fill - reached)),
        },
        style: { fill: c.solid, opacity: 0.13 },
      });
      shapes.push(line(x, fill, right, fill, c.solid, 0.8));
    }
    const shelves = data.levels.filter((level) => level.layer === "shelves");
    const most = Math.max(1e-9, ...shelves.map((shelf) => shelf.share_pct ?? 0));
    for (const shelf of shelves) {
      const y = api.coord([0, shelf.price])[1];
      const length = (0.16 * box.width * (shelf.share_pct ?? 0)) / most;
      shapes.push({
        type: "rect",
        shape: { x: right - length, y: y - 4, width: length, height: 8 },
        style: { fill: c.solid, opacity: 0.4 },
      });
      const top = api.coord([0, shelf.high ?? shelf.price])[1];
      shapes.push(line(right + 3, top, right + 3, api.coord([0, shelf.low ?? shelf.price])[1], c.muted, 1));
    }
    return shapes;
  });
}

/** Over the bars: the channel, swings, levels, the squeeze and events; headlines above them. */
function over(data: Data, c: Palette) {
  return overlay(5, (api, box) => {
    const shapes: Shape[] = [];
    const right = box.x + box.width;
    const floor = box.y + box.height;
    const channel = data.channel;
    if (channel)
      for (const k of [-1, 0, 1]) {
        const [x1, y1] = api.coord([channel.first, channel.begin + k * channel.width]);
        const [x2, y2] = api.coord([channel.last, channel.end + k * channel.width]);
        shapes.push(line(x1, y1, x2, y2, c.accent, k === 0 ? 0.9 : 1.3, k === 0 ? [6, 3] : undefined));
      }
    const turns = data.swings.flatMap((swing) => {
      const [x, y] = api.coord([swing.bar, swing.price]);
      if (x < box.x || x > right) return [];
      const up = swing.high ? -1 : 1;
      return [x - 4, y + up * 4, x, y + up * 8, x, y + up * 8, x + 4, y + up * 4];
    });
    shapes.push({ type: "strokes", shape: { lines: turns }, style: { stroke: c.muted, fill: "none", lineWidth: 1.2 } });
    for (const level of data.levels.filter((one) => one.layer !== "shelves")) {
      const y = api.coord([0, level.price])[1];
      const dash = level.layer === "gamma" ? [8, 3, 2, 3] : level.layer === "day" ? [2, 2] : [5, 4];
      shapes.push(line(box.x, y, right, y, level.layer === "swings" ? c.muted : c.ink, 1, dash));
    }
    for (const bar of data.squeeze) {
      const x = api.coord([bar, 0])[0];
      shapes.push({ type: "circle", shape: { cx: x, cy: floor - 4, r: 1.8 }, style: { fill: c.accent } });
    }
    for (const event of data.events) {
      const x = api.coord([event.bar, 0])[0];
      shapes.push({
        type: "text",
        style: {
          text: event.kind === "report" ? "E" : "d",
          x,
          y: floor - 10,
          align: "center",
          verticalAlign: "bottom",
          fill: c.ink,
          fontSize: 12,
          fontWeight: 600,
        },
      });
      shapes.push(line(x, floor - 9, x, floor, c.ink));
    }
    for (const mark of data.news) {
      const x = api.coord([mark.bar, 0])[0];
      if (x < box.x || x > right) continue;
      shapes.push({ type: "rect", shape: { x: x - 2, y: box.y + 2, width: 4, height: 4 }, style: { fill: c.ink } });
    }
    return shapes;
  });
}

export type Tag = { key: string; y: number; at: number; text: string; kind: "now" | "own" | undefined };

/** Names of the levels for the margin, each at its price; those too near are moved apart. */
export function levelTags(
  data: Data,
  lines: OwnLineAt[],
  price: (value: number) => number,
  top: number,
  bottom: number,
): Tag[] {
  const tags: Omit<Tag, "at">[] = data.levels.map((level) => ({
    key: `${level.layer} ${level.label} ${level.price}`,
    y: price(level.price),
    text:
      level.layer === "shelves"
        ? `${number(level.price, 2)} shelf ${number(level.share_pct, 0)} %`
        : `${number(level.price, 2)} ${level.label}`,
    kind: undefined,
  }));
  for (const line of lines)
    tags.push({
      key: `line ${line.id}`,
      y: price(line.price),
      text: `${number(line.price, 2)} ${line.name || "own line"}`,
      kind: "own",
    });
  for (const one of data.lines.filter(({ layer }) => layer === "averages")) {
    const value = one.values.at(-1);
    if (typeof value === "number")
      tags.push({ key: one.label, y: price(value), text: `${number(value, 2)} ${one.label}`, kind: undefined });
  }
  if (data.price !== null) tags.push({ key: "now", y: price(data.price), text: number(data.price, 2), kind: "now" });
  const inside = tags.filter(({ y }) => y >= top && y <= bottom).sort((a, b) => a.y - b.y);
  let free = top + 6;
  const placed = inside.map((tag) => {
    const at = Math.max(tag.y, free);
    free = at + 13;
    return { ...tag, at };
  });
  // What ran out below is pushed back up.
  let limit = bottom - 6;
  for (const tag of [...placed].reverse()) {
    tag.at = Math.min(tag.at, limit);
    limit = tag.at - 13;
  }
  return placed;
}

/** A bar in words. */
export function barWords(data: Data, place: number): string {
  if (data.close[place] === null || data.close[place] === undefined) return "";
  const at = (key: "open" | "high" | "low" | "close") => number(data[key][place], 2);
  return `open ${at("open")}, high ${at("high")}, low ${at("low")}, close ${at("close")}, ${compact(data.volume[place])} shares`;
}
