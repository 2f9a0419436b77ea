import { useMemo, useState } from "react";

/** A list that keeps its order: its rows, which of them are no longer in the answer, and what the answer has besides. */
type InPlace<Row> = { rows: Row[]; left: Set<string>; came: string[]; moved: boolean };

/**
 * The rows of `before` where they were, as they are `now`; who is gone stays as it was. `moved` says whether those that are in
 * both come in another order now.
 */
export function inPlace<Row>(before: Row[], now: Row[], keyOf: (row: Row) => string): InPlace<Row> {
  if (before === now) return { rows: now, left: new Set(), came: [], moved: false };
  const newest = new Map(now.map((row) => [keyOf(row), row]));
  const known = new Set(before.map(keyOf));
  const left = new Set([...known].filter((key) => !newest.has(key)));
  const came = [...newest.keys()].filter((key) => !known.has(key));
  const stayed = [...newest.keys()].filter((key) => known.has(key));
  let place = 0;
  const moved = before.some((row) => !left.has(keyOf(row)) && keyOf(row) !== stayed[place++]);
  return { rows: before.map((row) => newest.get(keyOf(row)) ?? row), left, came, moved };
}

export type Held<Row> = InPlace<Row> & {
  /** The moment that the rows are of. */
  version: string | undefined;
  /** How often it was put in order. */
  turn: number;
  /** Takes the order of the newest answer. */
  reorder: () => void;
};

/** What is asked, and the moment that the answer is of. */
type Of = { question: string; version: string };

/** The moment that an answer is of: the market's version, and the minute of a session that is played again. */
export const momentOf = ({ version, past }: { version: number; past: string | null }) => `${version} ${past ?? ""}`;

/** What an answer answers: all minutes of a session that is played again are moments of one question. */
export function answerTo<Question extends { as_of?: string | null }>(
  asked: Question,
  reply: { version: number; past: string | null },
): Of {
  return {
    question: JSON.stringify({ ...asked, as_of: asked.as_of?.replace(/T.*/, "T") }),
    version: momentOf(reply),
  };
}

/**
 * A list under the hand: while moments come, rows stay where they are and take their new values there, until somebody reorders or
 * asks for something else. `now` is the same array as long as it says the same; null while there is no answer.
 */
export function useHeld<Row>(of: Of | null, now: Row[], keyOf: (row: Row) => string): Held<Row> {
  const first = { of, now, held: now, turn: 0 };
  const [kept, keep] = useState(first);
  let current = kept;
  if (of && (kept.now !== now || kept.of?.question !== of.question || kept.of.version !== of.version)) {
    const later = kept.of?.question === of.question && kept.of.version !== of.version;
    // More of the same answer, when its rows come page by page.
    const more = kept.of?.question === of.question && sameKeys(kept.now, now, keyOf);
    current = later || more ? { ...kept, of, now, held: inPlace(kept.held, now, keyOf).rows } : first;
    keep(current);
  }
  const { held, turn } = current;
  const placed = useMemo(() => inPlace(held, now, keyOf), [held, now, keyOf]);
  const reorder = () => keep({ of, now, held: now, turn: turn + 1 });
  return { ...placed, version: of?.version, turn, reorder };
}

const sameKeys = <Row>(one: Row[], other: Row[], keyOf: (row: Row) => string) =>
  one.length === other.length && one.every((row, place) => keyOf(row) === keyOf(other[place] as Row));
