import { describe, expect, it } from "vitest";
import { type Leg, readLegs, roll, stepQuantity, stepStrike, withLeg, writeLegs } from "./legs";

const call = (strike: number, quantity = 1, expiration = "2026-10-16"): Leg => ({
  quantity,
  isCall: true,
  strike,
  expiration,
});
const listed = [
  { expiration: "2026-09-18", calls: [95, 100, 105], puts: [95, 100] },
  { expiration: "2026-10-02", calls: [], puts: [90] },
  { expiration: "2026-10-16", calls: [90, 97.5, 110], puts: [90, 97.5] },
];

describe("legs of a structure", () => {
  it("read as they were written", () => {
    const text = "+1P2850@2026-11-20,-2C97.5@2026-10-16,+100S";
    expect(writeLegs(readLegs(text))).toBe(text);
    expect(readLegs(text).options[1]).toEqual(call(97.5, -2));
    expect(writeLegs(readLegs("1C100@2026-10-16,-50S,-50S"))).toBe("+1C100@2026-10-16,-100S");
    expect(readLegs("nonsense,+1X5@2026-10-16")).toEqual({ options: [], shares: 0 });
  });

  it("step among the strikes that are quoted, and stay where there is none", () => {
    expect(stepStrike(call(97.5), listed, 1).strike).toBe(110);
    expect(stepStrike(call(97.5), listed, -1).strike).toBe(90);
    expect(stepStrike(call(110), listed, 1)).toEqual(call(110));
    expect(stepStrike({ ...call(97.5), isCall: false }, listed, 1).strike).toBe(97.5);
    expect(stepStrike(call(97.5, 1, "2030-01-01"), listed, 1).strike).toBe(97.5);
  });

  it("roll to the next expiration that quotes their right, at the nearest strike", () => {
    expect(roll(call(100, 1, "2026-09-18"), listed, 1)).toEqual(call(97.5));
    expect(roll(call(97.5), listed, -1)).toEqual(call(95, 1, "2026-09-18"));
    expect(roll(call(97.5), listed, 1)).toEqual(call(97.5));
    expect(roll({ ...call(95, 1, "2026-09-18"), isCall: false }, listed, 1).expiration).toBe("2026-10-02");
  });

  it("are never none and never more than a thousand", () => {
    expect(stepQuantity(call(100, 1), -1).quantity).toBe(-1);
    expect(stepQuantity(call(100, -1), 1).quantity).toBe(1);
    expect(stepQuantity(call(100, 1_000), 1).quantity).toBe(1_000);
    expect(stepQuantity(call(100, -1_000), -1).quantity).toBe(-1_000);
  });

  it("are put together: one more of the same, gone at nothing, eight at most", () => {
    const of = { isCall: true, strike: 100, expiration: "2026-10-16" };
    const one = withLeg({ options: [], shares: 100 }, of, 1);
    expect(one).toEqual({ options: [call(100)], shares: 100 });
    expect(withLeg(one, of, 1).options).toEqual([call(100, 2)]);
    expect(withLeg(one, of, -1).options).toEqual([]);
    const eight = { options: Array.from({ length: 8 }, (_, i) => call(101 + i)), shares: 0 };
    expect(withLeg(eight, of, 1)).toBe(eight);
    expect(withLeg(eight, { ...of, strike: 101 }, 1).options).toHaveLength(8);
  });
});
