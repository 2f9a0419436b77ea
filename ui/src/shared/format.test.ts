import { describe, expect, it } from "vitest";
import { arrow, compact, count, date, instant, metricText, number, rounded, signed, signedCompact } from "./format";

describe("numbers", () => {
  it("have fixed decimals, a true minus, and no sign where they round to nothing", () => {
    expect(number(1234.5678, 2)).toBe("1,234.57");
    expect(number(-0.5, 1)).toBe("−0.5");
    expect(number(-0.004, 2)).toBe("0.00");
    expect(number(0)).toBe("0");
    for (const missing of [null, undefined, Number.NaN, Number.POSITIVE_INFINITY]) expect(number(missing, 2)).toBe("–");
  });

  it("are short from ten thousand on, in three digits", () => {
    expect(compact(9_999)).toBe("9,999");
    expect(compact(10_000)).toBe("10K");
    expect(compact(24_140_000)).toBe("24.1M");
    expect(compact(-24_140_000)).toBe("−24.1M");
    expect(compact(null)).toBe("–");
  });

  it("say their sign where it matters", () => {
    expect(signed(1.234)).toBe("+1.23");
    expect(signed(-1.236)).toBe("−1.24");
    expect(signed(0)).toBe("0.00");
    expect(signed(null)).toBe("–");
    expect(signedCompact(4_900_000)).toBe("+4.9M");
    expect(signedCompact(-12)).toBe("−12");
    expect(signedCompact(0)).toBe("0");
    expect([arrow(1), arrow(-0.1), arrow(0), arrow(null)]).toEqual(["▲", "▼", "", ""]);
  });

  it("of a metric are short where they count, and exact where they measure", () => {
    expect(metricText("shares", 0, 1_500_000)).toBe("1.5M");
    expect(metricText("$", 0, 1_500_000)).toBe("1.5M");
    expect(metricText("$", 2, 1_500_000)).toBe("1,500,000.00");
    expect(metricText("%", 1, 12.345)).toBe("12.3");
  });

  it("of an edge that was dragged have three digits", () => {
    expect(rounded(0.123456)).toBe(0.123);
    expect(rounded(123_456)).toBe(123_000);
    expect(count(1, "name")).toBe("1 name");
    expect(count(1_000, "name")).toBe("1,000 names");
    expect(count(2, "strike survives", "strikes survive")).toBe("2 strikes survive");
  });
});

describe("days", () => {
  it("are told as they were written, whatever zone the machine is in", () => {
    expect(date("2026-09-09")).toBe("9 Sep");
    expect(date("2026-01-31T23:59:00-05:00", true)).toBe("31 Jan 2026");
    expect(instant("2026-09-09T15:45:00-04:00")).toBe("Wed 9 Sep 2026 15:45");
  });
});
