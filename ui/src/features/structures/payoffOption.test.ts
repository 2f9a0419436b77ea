import { describe, expect, it } from "vitest";
import type { Schemas } from "@/shared/api/client";
import type { Palette } from "@/shared/chart/palette";
import { payoffOption, shown } from "./payoffOption";

type One = Schemas["OneReply"];
const prices = Array.from({ length: 141 }, (_, i) => 30 + 0.5 * i);
const payoff = (strikes: number[], breakevens: number[]) =>
  ({
    legs: strikes.map((strike) => ({ strike })),
    breakevens: breakevens.map((price) => ({ price, moves: 0 })),
    at_end: prices,
    today: prices,
    between: prices,
    judged: [{ opinion: "past", outcomes: Array(20).fill(5) }],
  }) as unknown as One["structure"];
const one = {
  prices,
  edges: Array.from({ length: 21 }, (_, i) => 30 + 3.5 * i),
  spot: 60,
  lower: 55,
  upper: 65,
  on: "2026-09-14",
  marks: [
    { label: "seen", price: 62 },
    { label: "far away", price: 95 },
  ],
  structure: payoff([60, 65], [62]),
  against: null,
} as unknown as One;
const seen = (of: One) => shown(of).map((place) => of.prices[place]);

describe("the prices that a payoff is drawn over", () => {
  it("are two expected moves either way", () => {
    expect(seen(one)).toEqual([50, 70]);
  });

  it("reach half a move beyond every strike and breakeven, the other structure's too", () => {
    expect(seen({ ...one, structure: payoff([40, 60], [45]) })).toEqual([37.5, 70]);
    expect(seen({ ...one, structure: payoff([60], [80]) })).toEqual([50, 82.5]);
    expect(seen({ ...one, against: payoff([90], []) })).toEqual([50, 92.5]);
  });

  it("are all there are when the structure is wider than those", () => {
    expect(seen({ ...one, structure: payoff([10, 200], []) })).toEqual([30, 100]);
  });

  it("are those of every line, bar and mark", () => {
    const option = payoffOption(one, {} as Palette);
    const [above, below] = option.xAxis;
    expect([above?.min, above?.max, below?.min, below?.max]).toEqual([50, 70, 50, 70]);
    const series = option.series as { name: string; data: number[][]; markLine?: { data: { xAxis: number }[] } }[];
    const of = (name: string) => series.find((line) => line.name === name);
    expect(of("at the end")?.data[0]).toEqual([50, 50]);
    expect(of("at the end")?.data.at(-1)).toEqual([70, 70]);
    expect(of("today")?.data).toHaveLength(41);
    expect(of("past")?.data.map(([price]) => price)).toEqual([52.75, 56.25, 59.75, 63.25, 66.75]);
    expect(of("at the end")?.markLine?.data.map(({ xAxis }) => xAxis)).toEqual([62, 60]);
  });
});
