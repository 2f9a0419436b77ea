import { useEffect, useRef } from "react";

function typing(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || target.matches("input:not([type=radio]):not([type=checkbox]), textarea, select"))
  );
}

/** Single keys for the whole window; silent while the user types or a dialog is open. */
export function useKeys(keys: Record<string, () => void>): void {
  const current = useRef(keys);
  current.current = keys;
  useEffect(() => {
    function pressed(event: KeyboardEvent) {
      if (event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented || typing(event.target)) return;
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
