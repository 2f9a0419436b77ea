import { useEffect, useRef } from "react";

function typing(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || target.matches("input:not([type=radio]):not([type=checkbox]), textarea, select"))
  );
}

/** A slider takes arrows and the like, and no letters or signs. */
const sliding = (target: EventTarget | null, key: string) =>
  key.length === 1 && target instanceof HTMLElement && target.matches("input[type=range]");

/** Single keys for the whole window; silent while the user types or a dialog is open. */
export function useKeys(keys: Record<string, () => void>): void {
  const current = useRef(keys);
  current.current = keys;
  useEffect(() => {
    function pressed(event: KeyboardEvent) {
      if (event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented) return;
      if (typing(event.target) && !sliding(event.target, event.key)) return;
      if (document.querySelector(".modal.show")) return;
      const action = current.current[event.key];
      if (!action) return;
      event.preventDefault();
      action();
    }
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, []);
}
