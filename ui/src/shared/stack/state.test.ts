import { describe, expect, it } from "vitest";
import {
  choiceText,
  fromBody,
  isChanged,
  rangeText,
  readNumber,
  readRules,
  readScreen,
  reasonFor,
  rule,
  type Screen,
  toBody,
  USUAL_SEARCH,
  writeRules,
  writeScreen,
} from "./state";
import { NAMES } from "./things";

const base: Screen = {
  universe: "stock",
  rules: [rule("iv_rank >= 40")],
  anyGroups: [],
  columns: ["price", "iv30"],
  sort: ["-iv30"],
  view: "table",
  table: "names",
  sessions: 1,
  search: null,
};
const round = (screen: Screen, from = base) => {
  const told = Object.entries(writeScreen(screen, from)).filter(
    (entry): entry is [string, string] => entry[1] !== null,
  );
  return readScreen(new URLSearchParams(told), from);
};

describe("a screen in the address", () => {
  it("reads as it was written, and what is as usual is left out", () => {
    expect(isChanged(base, base)).toBe(false);
    expect(Object.values(writeScreen(base, base)).every((value) => value === null)).toBe(true);
    const other: Screen = {
      ...base,
      universe: "basket:3",
      rules: [
        { text: "close > sma(close, 50)", on: false, bars: "15", group: 2 },
        { text: 'sector in ("Household",)', on: true, bars: "day", group: null },
      ],
      anyGroups: [2],
      columns: [],
      sort: ["symbol", "-price"],
      view: "gallery",
      sessions: 5,
    };
    expect(round(other)).toEqual(other);
    expect(isChanged(other, base)).toBe(true);
  });

  it("without rules is not a screen that says nothing of rules", () => {
    expect(round({ ...base, rules: [] }).rules).toEqual([]);
    expect(readScreen(new URLSearchParams(), base).rules).toEqual(base.rules);
    expect(writeRules([])).toBe("-");
  });

  it("takes what is foreign for what is usual", () => {
    const read = readScreen(new URLSearchParams({ view: "nonsense", days: "9", any: "1\nx", q: "{broken" }), base);
    expect([read.view, read.sessions, read.anyGroups, read.search]).toEqual(["table", 1, [1], null]);
    expect(readRules(Array(99).fill("price > 1").join("\n"))).toHaveLength(60);
    expect(readRules(`price > ${"1".repeat(5_000)}`)[0]?.text).toHaveLength(1_001);
  });

  it("of structures takes of a search what is of its kind", () => {
    const with_search = { ...base, table: "structures" as const, search: USUAL_SEARCH };
    const told = { least_days: 5, most_days: "many", kinds: "all", unheard: 1, at_most: { largest: 9 } };
    const read = readScreen(new URLSearchParams({ q: JSON.stringify(told) }), with_search).search;
    expect(read).toEqual({ ...USUAL_SEARCH, least_days: 5, at_most: { largest: 9 } });
    const mine = { ...with_search, search: { ...USUAL_SEARCH, kinds: ["butterfly"] } };
    expect(round(mine, with_search)).toEqual(mine);
    expect(JSON.parse(writeScreen(mine, with_search).q ?? "")).toEqual({ kinds: ["butterfly"] });
  });

  it("is kept and read again as a body", () => {
    const screen = { ...base, rules: [{ text: "iv_rank >= 40", on: false, bars: "60" as const, group: 7 }] };
    expect(fromBody(toBody(screen))).toEqual(screen);
  });
});

describe("rules in words", () => {
  it("say where a range begins and ends, and on which side an edge belongs", () => {
    const range = { subject: "price", lower: 15, upper: 250, lowerOpen: false, upperOpen: true };
    expect(rangeText(range)).toBe("15 <= price < 250");
    expect(rangeText({ ...range, upper: null, lowerOpen: true })).toBe("price > 15");
    expect(rangeText({ ...range, upper: null })).toBe("price >= 15");
    expect(rangeText({ ...range, lower: null, upperOpen: false })).toBe("price <= 250");
    expect(rangeText({ ...range, lower: null, upper: null })).toBe("price");
    expect(rangeText({ ...range, lower: 1e-9, upper: null })).toBe("price >= 0.000000001000");
  });

  it("choose among words, a single one too", () => {
    expect(choiceText("sector", ["Household"])).toBe('sector in ("Household",)');
    expect(choiceText("side", ["ask", "bid"])).toBe('side in ("ask", "bid")');
    expect(choiceText("side", null)).toBe("side");
  });

  it("say why a name came: those that are on and ask something", () => {
    const rules = [rule("iv_rank"), rule("iv_rank >= 40"), { ...rule("price > 5"), on: false }];
    const why = reasonFor({ ...base, rules }, NAMES, "Mine", "stocks", "/screen?r=x");
    expect(why).toEqual({ page: "Screen", words: "Mine · stocks · iv_rank >= 40", link: "/screen?r=x" });
    expect(reasonFor({ ...base, rules }, NAMES, null, "stocks", "x".repeat(1_501)).link).toBe("");
  });
});

describe("a number as people write it", () => {
  it.each([
    ["1,200", 1_200],
    ["1.2B", 1.2e9],
    ["0.7 m", 700_000],
    ["−3.5", -3.5],
    ["1e3", 1_000],
    [".5k", 500],
    ["", null],
    ["  ", null],
    ["1.2.3", undefined],
    ["12 apples", undefined],
    ["1e16", undefined],
    ["Infinity", undefined],
    ["0x10", undefined],
  ])("%s", (text, value) => {
    expect(readNumber(text)).toBe(value);
  });
});
