import { describe, expect, it } from "vitest";
import { findNames, findThings, type Thing } from "./find";

const thing = (kind: Thing["kind"], words: string, more = ""): Thing => ({
  kind,
  key: `${kind} ${words}`,
  words,
  more,
  aside: "",
});
const found = (things: Thing[], text: string) => findThings(things, text).map(({ words }) => words);

describe("what the box finds", () => {
  const things = [
    thing("metric", "Tape premium", "flow_premium"),
    thing("page", "Tape", "which option trades are unusual"),
    thing("name", "TAPEO", "Tapeo Rope Works"),
    thing("name", "STAPA", "Stapa Tape & Twine"),
    thing("action", "light or dim"),
  ];

  it("tells what is called so first, then what begins so, then a word, then what holds it", () => {
    expect(found(things, "tape")).toEqual(["Tape", "TAPEO", "Tape premium", "STAPA"]);
    expect(found(things, "TAPE")).toEqual(found(things, "tape"));
    expect(found(things, " tapeo ")[0]).toBe("TAPEO");
  });

  it("looks into what says more, and for each of several words wherever it stands", () => {
    expect(found(things, "rope")).toEqual(["TAPEO"]);
    expect(found(things, "dim light")).toEqual(["light or dim"]);
    expect(found(things, "dim rope")).toEqual([]);
    expect(found(things, "unusual")).toEqual(["Tape"]);
  });

  it("finds nothing for nothing", () => {
    expect(found(things, "")).toEqual([]);
    expect(found(things, "   ")).toEqual([]);
    expect(found(things, "zzz")).toEqual([]);
  });

  it("leaves room for every kind, and tells a dozen at most", () => {
    const many = [
      ...Array.from({ length: 40 }, (_, i) => thing("name", `ABC${i}`)),
      ...Array.from({ length: 40 }, (_, i) => thing("metric", `abc metric ${i}`)),
    ];
    const kinds = findThings(many, "abc").map(({ kind }) => kind);
    expect(kinds.filter((kind) => kind === "name")).toHaveLength(8);
    expect(kinds.filter((kind) => kind === "metric")).toHaveLength(4);
    expect(kinds).toHaveLength(12);
  });

  it("finds rows of names by symbol and company", () => {
    const row = (symbol: string, company: string) => ({ symbol, company, kind: "stock", sector: "Household" });
    const rows = [row("KOSVI", "Kosvi Signals"), row("BISVA", "Bisva Skywatch"), row("SIGNA", "Signa Paper")];
    const symbols = (text: string) => findNames(rows as never, text).map((one) => one.symbol);
    expect(symbols("sig")).toEqual(["SIGNA", "KOSVI"]);
    expect(symbols("kosvi sig")).toEqual(["KOSVI"]);
    expect(symbols("sva")).toEqual(["BISVA"]);
  });
});
