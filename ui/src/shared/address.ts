import { useCallback, useEffect, useRef } from "react";
import { useSearchParams } from "react-router";

type Write = (changes: Record<string, string | null>, step?: boolean) => void;

const left = new Map<string, string>();

/** The page the window is at: the first part of its path, so that every name's Dossier is one page. */
const here = () => `/${window.location.pathname.split("/")[1] ?? ""}`;

/** A page's address as it was left, so that going back to it loses nothing. */
export function lastAddress(page: string): string {
  return page + (left.get(page) ?? "");
}

/** An address as of a day's session, or of a minute of it; of the newest one without a day. */
export function asOfDay(address: string, day: string | null): string {
  const [path = "", query = ""] = address.split("?");
  const params = new URLSearchParams(query);
  if (day) params.set("asof", day);
  else params.delete("asof");
  return params.size > 0 ? `${path}?${params}` : path;
}

/**
 * The past session that the page at hand is about, or the minute of one that is played again; null for the newest one. It goes
 * along to wherever the page leads.
 */
export function useAsOf(): string | null {
  const day = useSearchParams()[0].get("asof");
  return day !== null && /^\d{4}-\d\d-\d\d(T\d\d:\d\d)?$/.test(day) ? day : null;
}

/**
 * The page's state in its address. `write` sets parameters, and removes those that are null; with `step` the browser's
 * Back takes the change back. Two changes in a row both arrive, though the address itself follows a moment later.
 */
export function useAddress(): [URLSearchParams, Write] {
  const [params, setParams] = useSearchParams();
  const page = useRef(here());
  const latest = useRef(params);
  useEffect(() => {
    latest.current = params;
    if (here() === page.current) left.set(page.current, params.size > 0 ? `?${params}` : "");
  }, [params]);
  const set = useRef(setParams);
  set.current = setParams;
  const write = useCallback<Write>((changes, step = false) => {
    // A change that comes after the page was left is not the next page's.
    if (here() !== page.current) return;
    const next = new URLSearchParams(latest.current);
    for (const [key, value] of Object.entries(changes)) {
      if (value) next.set(key, value);
      else next.delete(key);
    }
    latest.current = next;
    // At once: when the page is left in the same moment, this address is never rendered.
    left.set(page.current, next.size > 0 ? `?${next}` : "");
    set.current(next, { replace: !step });
  }, []);
  return [params, write];
}
