import { useEffect, useRef, useState } from "react";
import { api } from "@/shared/api/client";

const ASIDE = "flinch.aside";

type Look = { session: string; looked_at: string; symbols: string[] };

/** What a saved screen showed when it was last looked at as of another session. This look is remembered for the next time. */
export function useLook(id: number | null, changed: boolean) {
  const [look, setLook] = useState<Look | null>(null);
  const done = useRef("");
  // biome-ignore lint/correctness/useExhaustiveDependencies: another screen has other looks
  useEffect(() => {
    setLook(null);
    done.current = "";
  }, [id]);
  const pending = useRef<{ session: string; symbols: string[] } | null>(null);
  useEffect(() => {
    const shown = pending.current;
    if (id === null || changed || !shown) return;
    const key = `${id} ${shown.session} ${shown.symbols.length}`;
    if (done.current === key) return;
    done.current = key;
    api.look(id, shown).then(
      (reply) => setLook(reply.before),
      () => {
        done.current = "";
      },
    );
  });
  const record = (session: string | null, symbols: string[] | undefined) => {
    pending.current = session && symbols ? { session, symbols } : null;
  };
  return { look, record };
}

type Aside = { name: string; address: string };

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
