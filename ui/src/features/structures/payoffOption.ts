import type { Schemas } from "@/shared/api/client";
import { bottomAxis, chartBase, type Palette, valueAxis } from "@/shared/chart/palette";
import { told } from "@/shared/chart/told";
import { date, number, signed } from "@/shared/format";

type One = Schemas["OneReply"];
type Api = { value: (place: number) => number; coord: (at: unknown[]) => number[] };

/** Profit over prices when the first leg ends, today and in between, above what each opinion says of where price ends. */
export function payoffOption(one: One, c: Palette) {
  const { structure, against } = one;
  const [first, last] = shown(one);
  const prices = one.prices.slice(first, last + 1);
  const pair = (values: (number | null)[]) => prices.map((price, i) => [price, values[first + i] ?? null]);
  const wide = (one.edges[1] ?? 1) - (one.edges[0] ?? 0);
  const bins = one.edges.slice(1).flatMap((edge, place) => {
    const middle = edge - wide / 2;
    return middle >= (prices[0] ?? 0) && middle <= (prices.at(-1) ?? 0) ? [{ middle, place }] : [];
  });
  const of = (opinion: string) => structure.judged.find((said) => said.opinion === opinion)?.outcomes ?? [];
  const line = (name: string, data: unknown[], style: object, more: object = {}) => ({
    name,
    type: "line",
    data,
    showSymbol: false,
    symbol: "none",
    lineStyle: style,
    itemStyle: { color: (style as { color: string }).color },
    silent: true,
    ...more,
  });
  const inside = one.marks.filter((mark) => mark.price >= (prices[0] ?? 0) && mark.price <= (prices.at(-1) ?? 0));
  const marks = [
    ...inside.map((mark) => ({ name: "", xAxis: mark.price })),
    { name: number(one.spot, 2), xAxis: one.spot, lineStyle: { color: c.ink, type: "solid", width: 1 } },
  ];
  const range = (prices.at(-1) ?? 1) - (prices[0] ?? 0);
  return {
    ...chartBase(c),
    axisPointer: { link: [{ xAxisIndex: "all" }] },
    grid: [
      { left: 64, right: 18, top: 26, height: "63%" },
      { left: 64, right: 18, top: "75%", bottom: 34 },
    ],
    xAxis: [0, 1].map((gridIndex) => ({
      ...bottomAxis(c, gridIndex === 1 ? "price at the first expiration" : "", {
        axisLabel: {
          show: gridIndex === 1,
          color: c.muted,
          showMinLabel: false,
          showMaxLabel: false,
          formatter: (v: number) => number(v),
        },
      }),
      gridIndex,
      min: prices[0],
      max: prices.at(-1),
    })),
    yAxis: [
      {
        ...valueAxis(c),
        gridIndex: 0,
        scale: true,
        axisLabel: { color: c.muted, formatter: (v: number) => number(v) },
      },
      {
        ...valueAxis(c),
        gridIndex: 1,
        splitNumber: 2,
        axisLabel: { color: c.muted, formatter: (v: number) => `${number(v)} %` },
      },
    ],
    tooltip: {
      trigger: "axis",
      ...chartBase(c).tooltip,
      axisPointer: { lineStyle: { color: c.muted, type: "solid" } },
      formatter: (points: { axisValue: number }[]) => {
        const at = Number(points[0]?.axisValue);
        const i = nearest(one.prices, at);
        const price = one.prices[i] ?? at;
        const move = (one.upper - one.lower) / 2;
        const near = inside.filter((mark) => Math.abs(mark.price - price) < 0.008 * range).map((mark) => mark.label);
        return told(
          `${number(price, 2)}, ${signed((100 * (price - one.spot)) / one.spot, 1)} %, ${signed((price - one.spot) / move, 1)} σ`,
          `at the end ${signed(structure.at_end[i], 0)} $`,
          `on ${date(one.on)} ${signed(structure.between[i], 0)} $`,
          `today ${signed(structure.today[i], 0)} $`,
          near.join(", "),
          against && `the other at the end ${signed(against.at_end[i], 0)} $`,
        );
      },
    },
    series: [
      line("today", pair(structure.today), { color: c.muted, width: 1.2 }),
      line("between", pair(structure.between), { color: c.accent, width: 1.4, type: "dashed" }),
      line(
        "at the end",
        pair(structure.at_end),
        { color: c.ink, width: 2.2 },
        {
          markLine: {
            silent: true,
            symbol: "none",
            lineStyle: { color: c.rule, type: "dashed", width: 1 },
            label: { color: c.ink, fontSize: 11, formatter: "{b}", position: "end" },
            data: marks,
          },
        },
      ),
      ...(against ? [line("the other", pair(against.at_end), { color: c.solid, width: 1.6, type: "dotted" })] : []),
      {
        name: "nothing",
        type: "line",
        silent: true,
        symbol: "none",
        data: [
          [prices[0], 0],
          [prices.at(-1), 0],
        ],
        lineStyle: { color: c.ink, width: 1 },
      },
      {
        // The expected move: a hollow bracket on the line of no profit.
        name: "expected move",
        type: "custom",
        silent: true,
        data: [[one.lower, one.upper]],
        renderItem: (_: unknown, api: Api) => {
          const [left = 0, y = 0] = api.coord([api.value(0), 0]);
          const [right = 0] = api.coord([api.value(1), 0]);
          return {
            type: "rect",
            shape: { x: left, y: y - 5, width: right - left, height: 10 },
            style: { fill: "transparent", stroke: c.ink, lineWidth: 1.4 },
          };
        },
      },
      {
        name: "past",
        type: "custom",
        xAxisIndex: 1,
        yAxisIndex: 1,
        silent: true,
        data: bins.map(({ middle, place }) => [middle, of("past")[place] ?? 0]),
        renderItem: bar(wide, { fill: c.solid, opacity: 0.75 }, 0.62),
      },
      {
        name: "market",
        type: "custom",
        xAxisIndex: 1,
        yAxisIndex: 1,
        silent: true,
        data: bins.map(({ middle, place }) => [middle, of("market")[place] ?? 0]),
        renderItem: bar(wide, { fill: "transparent", stroke: c.ink, lineWidth: 1 }, 0.94),
      },
      line(
        "forecast",
        bins.map(({ middle, place }) => [middle, of("forecast")[place] ?? null]),
        { color: c.accent, width: 1.4, type: "dotted" },
        { xAxisIndex: 1, yAxisIndex: 1 },
      ),
    ],
  };
}

/**
 * Places of the first and last price that is drawn: what may be asked for, two expected moves either way and half a move beyond all
 * strikes and breakevens.
 */
export function shown(
  one: Pick<One, "prices" | "spot" | "lower" | "upper" | "structure" | "against">,
): [number, number] {
  const move = (one.upper - one.lower) / 2;
  const of = [one.structure, ...(one.against ? [one.against] : [])];
  const corners = of.flatMap(({ legs, breakevens }) => [
    ...legs.map(({ strike }) => strike),
    ...breakevens.map(({ price }) => price),
  ]);
  const low = Math.min(one.spot - 2 * move, ...corners.map((price) => price - move / 2));
  const high = Math.max(one.spot + 2 * move, ...corners.map((price) => price + move / 2));
  const inside = one.prices.flatMap((price, i) => (price >= low && price <= high ? [i] : []));
  return [inside[0] ?? 0, inside.at(-1) ?? one.prices.length - 1];
}

const bar = (wide: number, style: object, share: number) => (_: unknown, api: Api) => {
  const middle = Number(api.value(0));
  const [left = 0, top = 0] = api.coord([middle - (wide * share) / 2, api.value(1)]);
  const [right = 0, bottom = 0] = api.coord([middle + (wide * share) / 2, 0]);
  return { type: "rect", shape: { x: left, y: top, width: right - left, height: bottom - top }, style };
};

const nearest = (prices: number[], at: number) =>
  prices.reduce((best, price, i) => (Math.abs(price - at) < Math.abs((prices[best] ?? 0) - at) ? i : best), 0);
