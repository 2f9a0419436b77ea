import { useSyncExternalStore } from "react";

/** A change made on an old version: what is kept now, and what was to be kept instead. */
export type Conflict = { name: string; mine: string[]; theirs: string[]; decide: (keepMine: boolean) => void };

let current: Conflict | null = null;
const listeners = new Set<() => void>();

function set(next: Conflict | null) {
  current = next;
  for (const listener of listeners) listener();
}

/** Ask which of two versions is kept; true for one's own. */
export function askWhichIsKept(name: string, mine: string[], theirs: string[]): Promise<boolean> {
  return new Promise((resolve) =>
    set({
      name,
      mine,
      theirs,
      decide: (keepMine) => {
        set(null);
        resolve(keepMine);
      },
    }),
  );
}

/** The conflict that waits for an answer. */
export const useConflict = () =>
  useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => current,
  );
