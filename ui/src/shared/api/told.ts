import { useSyncExternalStore } from "react";

/** Whether the server tells this window of moments: while it does, nobody need ask. Null until that is known. */
let told: boolean | null = null;
const readers = new Set<() => void>();

export const isTold = () => told === true;

export function setTold(now: boolean): void {
  if (told === now) return;
  told = now;
  for (const read of readers) read();
}

const subscribe = (read: () => void) => {
  readers.add(read);
  return () => {
    readers.delete(read);
  };
};

export const useTold = () => useSyncExternalStore(subscribe, () => told);
