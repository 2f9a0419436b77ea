import type { Schemas } from "@/shared/api/client";

/** Something that the box leads to. `words` is what it is called, `more` what else says which one it is; both are looked in. */
export type Thing = {
  kind: "name" | "page" | "screen" | "metric" | "basket" | "plan" | "action";
  key: string;
  words: string;
  more: string;
  /** What stands at the right: a sector, a unit. */
  aside: string;
  /** The key that does the same. */
  press?: string;
};

/** Kinds in the order in which those that fit alike are told, and how many of each there is room for. */
const KINDS: [Thing["kind"], number][] = [
  ["name", 8],
  ["page", 3],
  ["screen", 4],
  ["action", 3],
  ["metric", 4],
  ["basket", 3],
  ["plan", 3],
];
const MOST = 12;
const NEVER = 9;

/** How well a text fits a thing: 0 it is what it is called, 1 it begins so, 2 a word does, 3 it is contained, 9 not at all. */
function grade(thing: Thing, wanted: string): number {
  const words = thing.words.toLowerCase();
  const more = thing.more.toLowerCase();
  if (words === wanted) return 0;
  if (words.startsWith(wanted)) return 1;
  const starts = (text: string) =>
    text.startsWith(wanted) || text.split(/[\s,/()-]+/).some((w) => w.startsWith(wanted));
  if (starts(words) || starts(more)) return 2;
  if (words.includes(wanted) || more.includes(wanted)) return 3;
  // Several words may stand anywhere, each of them.
  const each = wanted.split(/\s+/);
  return each.length > 1 && each.every((word) => words.includes(word) || more.includes(word)) ? 4 : NEVER;
}

/** What fits a text, best first: of things that fit alike those of the kinds told first; some of each kind. */
export function findThings(things: Thing[], text: string): Thing[] {
  const wanted = text.trim().toLowerCase();
  if (!wanted) return [];
  const fits = things
    .map((thing) => ({ thing, grade: grade(thing, wanted) }))
    .filter((entry) => entry.grade < NEVER)
    .sort((a, b) => a.grade - b.grade || a.thing.words.localeCompare(b.thing.words));
  const kept = KINDS.flatMap(([kind, most]) => fits.filter(({ thing }) => thing.kind === kind).slice(0, most));
  const order = (kind: Thing["kind"]) => KINDS.findIndex(([one]) => one === kind);
  return kept
    .sort((a, b) => a.grade - b.grade || order(a.thing.kind) - order(b.thing.kind))
    .slice(0, MOST)
    .map(({ thing }) => thing);
}

type Row = Schemas["NameRow"];

/** A listed name as a thing that is found. */
export const named = ({ symbol, company, kind, sector }: Row): Thing => ({
  kind: "name",
  key: `name ${symbol}`,
  words: symbol,
  more: company,
  aside: kind === "stock" ? sector : kind,
});

/** Names whose symbol or company fits a text, best first. */
export function findNames(names: Row[], text: string): Row[] {
  const things = new Map(names.map((row) => [named(row), row]));
  return findThings([...things.keys()], text).flatMap((thing) => things.get(thing) ?? []);
}
