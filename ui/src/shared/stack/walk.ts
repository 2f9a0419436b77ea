import { useEffect, useRef, useState } from "react";

/**
 * The row the reader stands on: it moves at once, and the address (`at`) follows through `write` when the walk pauses.
 * `leave` writes it at once, before another page is opened from it.
 */
export function useWalk(
  at: string | null,
  write: (changes: { at: string | null }) => void,
): { focused: string | null; walk: (symbol: string) => void; leave: (symbol: string) => void } {
  const [focused, setFocused] = useState(at);
  const underway = useRef<(string | null)[]>([at]);
  useEffect(() => {
    // Our own writings come back late and one after the other; only an address from elsewhere moves the row.
    const ours = underway.current.indexOf(at);
    underway.current = underway.current.slice(ours + 1);
    if (ours < 0) {
      underway.current = [];
      setFocused(at);
    }
  }, [at]);
  useEffect(() => {
    if (focused === at) return;
    const timer = setTimeout(() => {
      if (underway.current.at(-1) === focused) return;
      underway.current.push(focused);
      write({ at: focused });
    }, 120);
    return () => clearTimeout(timer);
  }, [focused, at, write]);
  const leave = (symbol: string) => {
    if (symbol === at) return;
    underway.current.push(symbol);
    write({ at: symbol });
  };
  return { focused, walk: setFocused, leave };
}
