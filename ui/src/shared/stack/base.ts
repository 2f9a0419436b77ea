import { useMemo } from "react";
import type { SavedScreen, ScreenDraft } from "@/shared/api/client";
import { useScreens } from "@/shared/api/queries";
import { fromBody, type Screen, toBody } from "./state";

/** A screen as it was opened: under which key, with what it is saved as, and what it holds. */
export type Base = { key: string | null; draft: ScreenDraft; screen: Screen; saved: SavedScreen | null };

/** The screen of that key, of those that are saved and the starters; the page's `first` one without a key, null when there is none. */
export function useBase(asked: string | null, first: Screen) {
  const screens = useScreens();
  const base = useMemo(() => findBase(asked, first, screens.data), [asked, first, screens.data]);
  return { base, screens };
}

function findBase(asked: string | null, first: Screen, screens: ReturnType<typeof useScreens>["data"]): Base | null {
  if (asked === null) {
    const draft = { name: "", description: "", tags: [], body: toBody(first), version: null };
    return { key: null, draft, screen: first, saved: null };
  }
  const starter = screens?.starters.find((s) => `s-${s.key}` === asked);
  const saved = screens?.saved.find((s) => String(s.id) === asked) ?? null;
  const found = [starter, saved].find((one) => one && (one.body.table ?? "names") === first.table);
  return found
    ? { key: asked, draft: { ...found, version: saved?.version ?? null }, screen: fromBody(found.body), saved }
    : null;
}
