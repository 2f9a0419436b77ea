import { useEffect, useMemo, useState } from "react";
import type { RuleReport } from "@/shared/api/client";
import type { Base } from "./base";
import { isChanged, type Rule, readScreen, type Screen, writeScreen } from "./state";

type Write = (changes: Record<string, string | null>, step?: boolean) => void;

/**
 * The screen that an address holds, and how a hand changes it: `current` has the edge that is being moved, which the address gets
 * when it is let go.
 */
export function useStack(base: Base, params: URLSearchParams, write: Write) {
  const [moving, setMoving] = useState<{ place: number; text: string } | null>(null);
  const screen = useMemo(() => readScreen(params, base.screen), [params, base]);
  const current = useMemo(
    () =>
      moving
        ? { ...screen, rules: screen.rules.map((r, i) => (i === moving.place ? { ...r, text: moving.text } : r)) }
        : screen,
    [screen, moving],
  );
  // What was let go stays until the address has it too.
  useEffect(() => {
    if (moving && screen.rules[moving.place]?.text === moving.text) setMoving(null);
  }, [moving, screen]);
  const aim = Number(params.get("aim")) || null;
  return {
    screen,
    current,
    /** How many shall survive; null when no number is aimed for. */
    aim,
    setAim: (wanted: number | null) => write({ aim: wanted === null ? null : String(wanted) }),
    changed: isChanged(screen, base.screen),
    change: (changes: Partial<Screen>) => write(writeScreen({ ...screen, ...changes }, base.screen), true),
    move: (place: number, text: string) => setMoving({ place, text }),
    /** The reports of an answer for the rules as they stand now: each belongs to the rule that it was asked for. */
    reportsOf: (told: Pick<Rule, "text">[], reports: RuleReport[] | undefined) =>
      current.rules.map((r, i) => {
        if (moving?.place === i) return reports?.[i];
        const same = alike(told[i], r) ? i : told.findIndex((t) => alike(t, r));
        return same < 0 ? undefined : reports?.[same];
      }),
  };
}

export type Held = ReturnType<typeof useStack>;

const alike = (a: (Pick<Rule, "text"> & { bars?: string }) | undefined, b: Rule) =>
  a?.text === b.text && (a.bars ?? "day") === b.bars;
