import { describe, expect, test } from "vitest";
import { inPlace } from "./held";

type Row = { key: string; value: number };
const rows = (...told: [string, number][]): Row[] => told.map(([key, value]) => ({ key, value }));
const keyOf = (row: Row) => row.key;

describe("a list that keeps its order", () => {
  test("takes new values where its rows are", () => {
    const held = inPlace(rows(["a", 1], ["b", 2], ["c", 3]), rows(["c", 30], ["a", 10], ["b", 20]), keyOf);
    expect(held.rows).toEqual(rows(["a", 10], ["b", 20], ["c", 30]));
    expect(held.moved).toBe(true);
    expect([held.came, [...held.left]]).toEqual([[], []]);
  });

  test("tells who came and who left, and keeps who left as it was", () => {
    const held = inPlace(rows(["a", 1], ["b", 2], ["c", 3]), rows(["x", 9], ["a", 10], ["c", 30], ["y", 8]), keyOf);
    expect(held.rows).toEqual(rows(["a", 10], ["b", 2], ["c", 30]));
    expect([...held.left]).toEqual(["b"]);
    expect(held.came).toEqual(["x", "y"]);
  });

  test("the order of those that stayed is the same when others come between them or go", () => {
    expect(inPlace(rows(["a", 1], ["b", 2], ["c", 3]), rows(["a", 1], ["x", 9], ["c", 3]), keyOf).moved).toBe(false);
    expect(inPlace(rows(["a", 1], ["b", 2], ["c", 3]), rows(["c", 1], ["x", 9], ["a", 3]), keyOf).moved).toBe(true);
  });

  test("is what it was when nothing changed, and empty when nothing was there", () => {
    const same = rows(["a", 1], ["b", 2]);
    expect(inPlace(same, same, keyOf)).toEqual({ rows: same, left: new Set(), came: [], moved: false });
    expect(inPlace([], same, keyOf)).toEqual({ rows: [], left: new Set(), came: ["a", "b"], moved: false });
  });
});
