import { describe, expect, it } from "vitest";
import { inMarket } from "./market";

describe("a market in an address", () => {
  it.each([
    ["/screen", "/screen?market=mine"],
    ["/screen?r=iv30+%3E+30", "/screen?r=iv30+%3E+30&market=mine"],
    ["/handbook#terms", "/handbook?market=mine#terms"],
    ["/tape?least=20#top", "/tape?least=20&market=mine#top"],
    ["/screen?market=other", "/screen?market=other"],
  ])("%s", (address, named) => {
    expect(inMarket(address, "mine")).toBe(named);
  });

  it("is not named where none is known", () => {
    expect(inMarket("/screen?r=1", null)).toBe("/screen?r=1");
  });
});
