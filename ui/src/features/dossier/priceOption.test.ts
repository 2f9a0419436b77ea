import { describe, expect, it } from "vitest";
import { type Data, firstSpan, places, placeWords, priceRange } from "./priceOption";

const bars = (count: number, more: Partial<Data> = {}): Data =>
  ({
    at: Array.from({ length: count }, (_, i) => `2026-09-${String((i % 28) + 1).padStart(2, "0")}T13:30:00+00:00`),
    day: Array.from({ length: count }, (_, i) => i),
    sessions: Array.from({ length: count }, (_, i) => `2026-09-${String((i % 28) + 1).padStart(2, "0")}`),
    ahead: [],
    length: "day",
    low: Array.from({ length: count }, (_, i) => 90 + (i % 5)),
    high: Array.from({ length: count }, (_, i) => 100 + (i % 5)),
    lines: [],
    fans: [],
    ...more,
  }) as unknown as Data;

describe("which bars are shown at first", () => {
  it("the newest, about as many as can be told apart, and what lies ahead", () => {
    expect(firstSpan(bars(500))).toEqual({ start: 374, end: 499 });
    expect(firstSpan(bars(500, { ahead: ["2026-10-01", "2026-10-02"] }))).toEqual({ start: 374, end: 501 });
    expect(firstSpan(bars(500, { length: "1" }))).toEqual({ start: 305, end: 499 });
    expect(firstSpan(bars(40))).toEqual({ start: 0, end: 39 });
    expect(places(bars(40, { ahead: ["2026-10-01"] }))).toBe(41);
  });
});

describe("which prices are shown", () => {
  it("those of the bars in the span, with a little air", () => {
    const [low, high] = priceRange(bars(10), { start: 0, end: 4 });
    expect([low, high]).toEqual([90 - 0.04 * 14, 104 + 0.04 * 14]);
    expect(priceRange(bars(10), { start: 2, end: 2 })).toEqual([92 - 0.4, 102 + 0.4]);
  });

  it("of a layer what does not make the bars small", () => {
    const line = (value: number) => ({ values: Array(10).fill(value) });
    const of = (value: number) => priceRange(bars(10, { lines: [line(value)] as never }), { start: 0, end: 9 });
    expect(of(110)[1]).toBeCloseTo(110 + 0.04 * 20, 9);
    // No further than six tenths of the bars' own range.
    expect(of(1_000)[1]).toBeCloseTo(104 + 8.4 + 0.04 * (14 + 8.4), 9);
    expect(of(0)[0]).toBeCloseTo(90 - 8.4 - 0.04 * (14 + 8.4), 9);
  });

  it("are something where there are no bars", () => {
    expect(priceRange(bars(0), { start: 0, end: 0 })).toEqual([0, 1]);
    expect(priceRange(bars(10), { start: 20, end: 30 })).toEqual([0, 1]);
  });
});

describe("what a place is called", () => {
  it("its day, also of those that lie ahead", () => {
    const data = bars(3, { ahead: ["2026-10-01"] });
    expect(placeWords(data, 1)).toContain("2 Sep");
    expect(placeWords(data, 3)).toContain("1 Oct");
  });
});
