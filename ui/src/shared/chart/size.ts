import { type RefObject, useEffect, useState } from "react";

/** Width and height of an element, followed as it changes; what is drawn in it is drawn to scale, with letters of their size. */
export function useSize(box: RefObject<HTMLElement | null>, first: [number, number]): [number, number] {
  const [size, setSize] = useState(first);
  useEffect(() => {
    const area = box.current;
    if (!area) return;
    const watcher = new ResizeObserver(() => setSize([area.clientWidth, area.clientHeight]));
    watcher.observe(area);
    return () => watcher.disconnect();
  }, [box]);
  return size;
}
