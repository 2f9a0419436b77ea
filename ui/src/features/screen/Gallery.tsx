import { useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type RefObject, useEffect, useRef, useState } from "react";
import { api, type Schemas } from "@/shared/api/client";
import { useMarket } from "@/shared/api/queries";
import { PriceSpark, VolatilitySpark } from "@/shared/chart/Spark";
import { arrow, number, signed } from "@/shared/format";
import { type Columns, type Row, valueAt } from "./rows";
import { SIZES, type Size } from "./ViewTools";

const PAGE = 48;

/** The survivors as small charts, walked with the arrow keys. */
export function Gallery({
  rows,
  columns,
  what,
  size,
  period,
  onSeen,
  asOf,
  focused,
  onFocus,
  onOpen,
  tray,
  gridRef,
}: {
  rows: Row[];
  columns: Columns;
  what: "price" | "volatility";
  size: Size;
  period: number;
  /** Which rows are on the page. */
  onSeen: (first: number, last: number) => void;
  asOf: string | null;
  focused: string | null;
  onFocus: (row: Row) => void;
  onOpen: (symbol: string) => void;
  tray: Set<string>;
  gridRef: RefObject<HTMLDivElement | null>;
}) {
  const version = useMarket().data?.version;
  const [width, height] = SIZES[size];
  const [across, setAcross] = useState(4);
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const area = gridRef.current;
    if (!area) return;
    const watcher = new ResizeObserver(() =>
      setAcross(Math.max(1, Math.floor((area.clientWidth - 16) / (width + 18)))),
    );
    watcher.observe(area);
    return () => watcher.disconnect();
  }, [gridRef, width]);
  const lines = Math.ceil(rows.length / across);
  const virtual = useVirtualizer({
    count: lines,
    getScrollElement: () => gridRef.current,
    estimateSize: () => height + 34,
    overscan: 2,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: rows are measured anew when their height changes
  useEffect(() => virtual.measure(), [height, virtual]);
  const items = virtual.getVirtualItems();
  const first = (items[0]?.index ?? 0) * across;
  const last = ((items.at(-1)?.index ?? 0) + 1) * across - 1;
  useEffect(() => onSeen(first, last), [onSeen, first, last]);
  const pages = rows.length
    ? [...Array(Math.floor(Math.min(last, rows.length - 1) / PAGE) + 1).keys()].slice(Math.floor(first / PAGE))
    : [];
  const answers = useQueries({
    queries: pages.map((page) => {
      const symbols = rows.slice(page * PAGE, (page + 1) * PAGE).map((row) => row.symbol);
      const request = { symbols, what, sessions: period, as_of: asOf };
      return {
        queryKey: ["series", version, request],
        queryFn: ({ signal }: { signal: AbortSignal }) => api.series(request, signal),
      };
    }),
  });
  const known = new Map<string, Schemas["Series"] & { shares: number[] }>();
  for (const answer of answers)
    for (const series of answer.data?.series ?? [])
      known.set(series.symbol, { ...series, shares: answer.data?.shares ?? [] });

  const at = rows.findIndex((row) => row.symbol === focused);
  function key(event: KeyboardEvent) {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target !== event.currentTarget || rows.length === 0)
      return;
    const goal: Record<string, number> = {
      ArrowRight: at + 1,
      ArrowLeft: at - 1,
      ArrowDown: at < 0 ? 0 : at + across,
      ArrowUp: at - across,
      Home: 0,
      End: rows.length - 1,
    };
    if (event.key === "Enter" && focused) return onOpen(focused);
    const next = goal[event.key];
    if (next === undefined) return;
    event.preventDefault();
    const place = Math.max(0, Math.min(rows.length - 1, next));
    const row = rows[place];
    if (row) onFocus(row);
    virtual.scrollToIndex(Math.floor(place / across), { align: "auto" });
  }

  return (
    <div ref={gridRef} className="gallery">
      <div
        ref={box}
        role="listbox"
        tabIndex={0}
        aria-label="Surviving names as charts"
        aria-activedescendant={at >= 0 ? `tile-${focused}` : undefined}
        onKeyDown={key}
        style={{ height: virtual.getTotalSize(), position: "relative" }}
      >
        {items.map((item) => (
          <div key={item.key} className="gallery-line" style={{ top: item.start, height: item.size }}>
            {rows.slice(item.index * across, (item.index + 1) * across).map((row) => {
              const series = known.get(row.symbol);
              const change = valueAt(columns, "change_pct", row);
              const marks = ["tile", row.symbol === focused ? "focused" : "", tray.has(row.symbol) ? "in-tray" : ""];
              return (
                // biome-ignore lint/a11y/useKeyWithClickEvents: the list handles the keys
                <div
                  key={row.symbol}
                  id={`tile-${row.symbol}`}
                  role="option"
                  tabIndex={-1}
                  aria-selected={row.symbol === focused}
                  className={marks.filter(Boolean).join(" ")}
                  style={{ width: width + 12 }}
                  onClick={() => onFocus(row)}
                  onDoubleClick={() => onOpen(row.symbol)}
                  title={row.company}
                >
                  <p>
                    <b>{row.symbol}</b>
                    {row.left && <span>left the list</span>}
                    {row.loaded && !row.left && (
                      <span>
                        {number(valueAt(columns, "price", row), 2)} {arrow(change)} {signed(change, 1)} %
                      </span>
                    )}
                  </p>
                  {series ? (
                    what === "price" ? (
                      <PriceSpark
                        close={series.close}
                        fan={series.fan}
                        shares={series.shares}
                        width={width}
                        height={height}
                      />
                    ) : (
                      <VolatilitySpark
                        implied={series.implied}
                        historical={series.historical}
                        width={width}
                        height={height}
                      />
                    )
                  ) : (
                    <div style={{ height }} />
                  )}
                </div>
              );
            })}
          </div>
        ))}
      </div>
    </div>
  );
}
