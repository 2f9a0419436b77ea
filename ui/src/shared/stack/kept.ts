import { useEffect, useState } from "react";
import { api, type Schemas, type ScreenReply } from "@/shared/api/client";

const ASIDE = "flinch.aside";

export type Look = Schemas["Look"];

/**
 * Remembers what a saved screen shows, and tells what it showed when it was last looked at as of another session. Nothing
 * is remembered while `id` is null (no saved screen, or one that was changed) or the answer is not there yet.
 */
export function useLook(
  id: number | null,
  shown: ScreenReply | undefined,
  onBefore: (look: Look | null) => void,
): void {
  // Which names they are, in whatever order: a moment that lets nobody in or out is no other look.
  const names = shown && `${shown.session} ${[...shown.symbols].sort().join()}`;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the names say what is shown
  useEffect(() => {
    // A session that is played again is practice, and no look of its own.
    if (id === null || !shown || shown.past?.includes("T")) return;
    let left = false;
    api.look(id, { session: shown.session, symbols: shown.symbols }).then(
      (reply) => !left && onBefore(reply.before),
      // Without the server there is nothing to compare with; the frame says that it is away.
      () => !left && onBefore(null),
    );
    return () => {
      left = true;
    };
  }, [id, names, onBefore]);
}

export type Aside = { name: string; address: string };

/** Unsaved changes of a screen that was left for another one; kept in this browser until they are brought back or forgotten. */
export function useAside(): [Aside | null, (aside: Aside | null) => void] {
  const [aside, setAside] = useState<Aside | null>(() => {
    try {
      return JSON.parse(localStorage.getItem(ASIDE) ?? "null") as Aside | null;
    } catch {
      return null;
    }
  });
  return [
    aside,
    (next) => {
      setAside(next);
      try {
        if (next) localStorage.setItem(ASIDE, JSON.stringify(next));
        else localStorage.removeItem(ASIDE);
      } catch {
        // Without storage they are kept until the page is left.
      }
    },
  ];
}
