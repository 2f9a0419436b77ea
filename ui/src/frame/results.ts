import { useSyncExternalStore } from "react";

let current: string[] | null = null;
const listeners = new Set<() => void>();

/** The Screen says which names it shows, so that lists can be made of them on any page. */
export function tellResults(symbols: string[]): void {
  if (current?.join() === symbols.join()) return;
  current = symbols;
  for (const listener of listeners) listener();
}

/** The names that the Screen showed last; null before it was opened. */
export function useResults(): string[] | null {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => current,
  );
}
