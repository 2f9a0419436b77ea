import { useEffect, useRef, useState } from "react";
import { api, type Schemas, type ScreenReply } from "@/shared/api/client";

const ASIDE = "flinch.aside";

export type Look = Schemas["Look"];

/**
 * Remembers what a saved screen shows, and tells what it showed when it was looked at before this visit. Nothing is
 * remembered while `id` is null (no saved screen, or one that was changed) or the answer is not there yet.
 */
export function useLook(
  id: number | null,
  shown: ScreenReply | undefined,
  onBefore: (look: Look | null) => void,
): void {
  // Which names they are, in whatever order: a moment that lets nobody in or out is no other look.
  const names = shown && `${shown.session} ${[...shown.symbols].sort().join()}`;
  // What was there before one came to this session of it; what one sees from then on is this look.
  const came = useRef("");
  // biome-ignore lint/correctness/useExhaustiveDependencies: the names say what is shown
  useEffect(() => {
    // A session that is played again is practice, and no look of its own.
    if (id === null || !shown || shown.past?.includes("T")) return;
    const visit = `${id} ${shown.session}`;
    const first = came.current !== visit;
    came.current = visit;
    const tell = (before: Look | null) => first && came.current === visit && onBefore(before);
    api.look(id, { session: shown.session, moment: shown.moment, symbols: shown.symbols }).then(
      (reply) => tell(reply.before),
      // Without the server there is nothing to compare with; the frame says that it is away.
      () => {
        tell(null);
        if (first && came.current === visit) came.current = "";
      },
    );
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
