import { beforeEach, describe, expect, it } from "vitest";
import { Changes } from "./changes";

const OF_TARNO = { name: "TARNO", kinds: ["chains"] };

describe("what a moment changed", () => {
  let changes: Changes;
  beforeEach(() => {
    changes = new Changes();
    changes.note({ version: 11, before: 10, kinds: ["minute_bars"], names: ["TARNO"] });
    changes.note({ version: 12, before: 11, kinds: ["minute_bars"], names: ["BELUA"] });
    changes.note({ version: 15, before: 12, kinds: ["minute_bars"], names: [] });
  });

  it("leaves an answer that it does not concern what it is", () => {
    expect(changes.last(15, OF_TARNO)).toBe(11);
    expect(changes.last(15, { name: "BELUA", kinds: [] })).toBe(12);
    expect(changes.last(15, { name: "FEMBI", kinds: [] })).toBe(10);
    expect(changes.last(15, "sessions")).toBe(10);
  });

  it("asks again for kinds that are told of all names together", () => {
    changes.note({ version: 16, before: 15, kinds: ["chains"], names: ["BELUA"] });
    expect(changes.last(16, OF_TARNO)).toBe(16);
    expect(changes.last(16, { name: "TARNO", kinds: ["news"] })).toBe(11);
  });

  it("takes whatever it was not told, or is told to be all, for a change", () => {
    expect(changes.last(17, OF_TARNO)).toBe(17);
    changes.note({ version: 17, before: null, kinds: null, names: null });
    expect(changes.last(17, "sessions")).toBe(17);
    changes.note({ version: 18, before: 17, kinds: null, names: null });
    expect(changes.last(18, "sessions")).toBe(18);
    // Version 19 was missed: what it changed is not known.
    changes.note({ version: 20, before: 19, kinds: [], names: [] });
    expect(changes.last(20, "sessions")).toBe(19);
    expect(changes.last(undefined, OF_TARNO)).toBeUndefined();
  });

  it("changes everything for who says nothing", () => {
    expect(changes.last(15, undefined)).toBe(15);
  });

  it("keeps what was told lately", () => {
    for (let version = 16; version < 1000; version++) {
      changes.note({ version, before: version - 1, kinds: [], names: [] });
    }
    expect(changes.last(999, "sessions")).toBe(499);
  });

  it("comes to an end whatever it is told", () => {
    changes.note({ version: 16, before: 16, kinds: [], names: [] });
    expect(changes.last(16, "sessions")).toBe(16);
  });
});
