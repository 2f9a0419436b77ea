import type { Mutation, Query, QueryClient } from "@tanstack/react-query";
import { type RefObject, useEffect, useLayoutEffect, useRef } from "react";
import { ApiError } from "@/shared/api/client";

/**
 * Whether what the page shows answers what was last asked. The page says it by `aria-busy`; keys that act on a row wait for the
 * rows (`whenRows`), and tests act on settled pages alone.
 */

let holds = 0;
let shown = "";
let mark: HTMLElement | null = null;
let client: QueryClient | null = null;
let settling = 0;
let questions = 0;

/** The step of the browser's history that its address is of, as the router numbers them. */
const step = () => (window.history.state as { key?: string } | null)?.key ?? "default";

/** What is said of it is all that there is for now: the server or the database is away, and the page says so. */
const saidSo = (error: unknown) =>
  error instanceof ApiError && !["being_read", "busy", "market_not_ready"].includes(error.problem.type);

/** A question that somebody looks at, and that what is shown does not answer. */
function open(query: Query): boolean {
  const { state } = query;
  return (
    state.fetchStatus === "fetching" &&
    (state.data === undefined || state.isInvalidated) &&
    !saidSo(state.fetchFailureReason) &&
    !query.meta?.apart
  );
}

const underWay = ({ state }: Mutation) => state.status === "pending" && !saidSo(state.failureReason);

/** What keeps the page from being settled, for whoever looks for the reason; null when nothing does. */
function busyWith(): string | null {
  if (holds > 0) return `${holds} held`;
  if (shown !== step()) return "another address";
  if (client === null) return "the first page";
  const asked = client.getQueryCache().findAll({ type: "active" }).find(open);
  if (asked) return `asking for ${asked.queryKey[0]}`;
  return questions === 0 && client.getMutationCache().getAll().some(underWay) ? "a change" : null;
}

/** Busy at once; settled when nothing was busy while what came was drawn. */
function look(): void {
  if (!mark) return;
  const reason = busyWith();
  if (reason !== null) {
    settling += 1;
    mark.setAttribute("aria-busy", "true");
    mark.dataset.busyWith = reason;
    return;
  }
  if (mark.getAttribute("aria-busy") === "false") return;
  settling += 1;
  const turn = settling;
  const still = (then: () => void) => () => turn === settling && (busyWith() === null ? then() : look());
  // An answer is told to its readers a moment after it came, what they draw may ask again, and that is drawn in turn.
  const after = (then: () => void) => setTimeout(still(() => requestAnimationFrame(still(then))));
  after(() =>
    after(() => {
      mark?.setAttribute("aria-busy", "false");
      delete mark?.dataset.busyWith;
    }),
  );
}

/** The part of the frame that says whether the page is settled, and the step of the history that it shows. */
export function useSettledMark(queries: QueryClient, drawn: string): RefObject<HTMLElement | null> {
  const box = useRef<HTMLElement>(null);
  useLayoutEffect(() => {
    shown = drawn;
    look();
  }, [drawn]);
  useLayoutEffect(() => {
    client = queries;
    mark = box.current;
    mark?.setAttribute("aria-busy", "true");
    look();
    const stops = [queries.getQueryCache().subscribe(look), queries.getMutationCache().subscribe(look)];
    return () => {
      mark = null;
      for (const stop of stops) stop();
    };
  }, [queries]);
  return box;
}

/** The page is not settled until what this returns is called. */
export function hold(): () => void {
  holds += 1;
  look();
  let held = true;
  return () => {
    if (held) holds -= 1;
    held = false;
    look();
  };
}

/** The page is not settled while a part of it says so. */
export function useHold(active: boolean): void {
  useLayoutEffect(() => (active ? hold() : undefined), [active]);
}

/** While a change waits for what somebody answers, the page waits for nothing. */
export async function asking<Answer>(answer: Promise<Answer>): Promise<Answer> {
  questions += 1;
  look();
  try {
    return await answer;
  } finally {
    questions -= 1;
    look();
  }
}

/** One step after the other, a moment apart: of two navigations at once the first would be dropped. */
export function soon(act: () => void): void {
  const release = hold();
  setTimeout(() => {
    act();
    release();
  });
}

// Keys that act on a row, while other rows are on their way.

const MOST_WAITING = 40;
const lists = new Set<object>();
let waiting: (() => void)[] = [];
let place = "";

function next(): void {
  if (lists.size > 0) return;
  // Who leaves the page has given up what waited there.
  if (place !== window.location.pathname) waiting = [];
  waiting.shift()?.();
  // One after the other, each on what the one before left.
  if (waiting.length > 0) setTimeout(next, 20);
}

/** Now when the rows answer what was last asked, else as soon as they do; in the order of the keys. */
export function whenRows(act: () => void): void {
  if (lists.size === 0 && waiting.length === 0) {
    act();
    return;
  }
  if (waiting.length === 0) place = window.location.pathname;
  if (waiting.length < MOST_WAITING) waiting.push(act);
}

/** Rows that do not answer what was last asked: keys that act on one wait for them. */
export function useRowsBusy(active: boolean): void {
  useHold(active);
  useEffect(() => {
    if (!active) return;
    const list = {};
    lists.add(list);
    return () => {
      lists.delete(list);
      // After what the rows that came set going.
      setTimeout(next, 20);
    };
  }, [active]);
}
