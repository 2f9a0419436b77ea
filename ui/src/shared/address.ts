import { useCallback, useEffect, useRef } from "react";
import { useSearchParams } from "react-router";

type Write = (changes: Record<string, string | null>, step?: boolean) => void;

/**
 * The page's state in its address. `write` sets parameters, and removes those that are null; with `step` the browser's
 * Back takes the change back. Two changes in a row both arrive, though the address itself follows a moment later.
 */
export function useAddress(): [URLSearchParams, Write] {
  const [params, setParams] = useSearchParams();
  const latest = useRef(params);
  useEffect(() => {
    latest.current = params;
  }, [params]);
  const set = useRef(setParams);
  set.current = setParams;
  const page = useRef(window.location.pathname);
  const write = useCallback<Write>((changes, step = false) => {
    // A change that comes after the page was left is not the next page's.
    if (window.location.pathname !== page.current) return;
    const next = new URLSearchParams(latest.current);
    for (const [key, value] of Object.entries(changes)) {
      if (value) next.set(key, value);
      else next.delete(key);
    }
    latest.current = next;
    set.current(next, { replace: !step });
  }, []);
  return [params, write];
}
