import {
  type ColumnDef,
  flexRender,
  getCoreRowModel,
  getSortedRowModel,
  type SortingState,
  useReactTable,
} from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type RefObject, useEffect, useMemo, useRef } from "react";
import { Link } from "react-router";
import type { Metric, ScreenReply } from "@/shared/api/client";
import { LevelBracket, MoveBracket } from "@/shared/chart/BracketBar";
import { arrow, metricText, signed } from "@/shared/format";
import { Definition } from "@/shared/ui/Definition";
import { Missing } from "@/shared/ui/Missing";

export type Row = {
  symbol: string;
  company: string;
  values: Record<string, number | null>;
  reasons: Record<string, string>;
};

const ROW_HEIGHT = 28;
const WIDTHS: Record<string, number> = {
  symbol: 64,
  company: 100,
  price: 58,
  change_pct: 62,
  move: 76,
  level: 106,
  iv30: 46,
  hv21: 46,
  iv_hv_ratio: 48,
  iv_rank: 44,
  iv_percentile: 44,
  days_to_earnings: 46,
  avg_option_volume_21: 62,
  avg_volume_50: 62,
  market_cap: 66,
  one_day_move_pct: 78,
  spent: 56,
};
const ORDER = Object.keys(WIDTHS);

/** Survivors as rows, once per answer. */
export function toRows(reply: ScreenReply): Row[] {
  const keys = Object.keys(reply.columns);
  return reply.symbols.map((symbol, i) => ({
    symbol,
    company: reply.companies[i] ?? "",
    values: Object.fromEntries(keys.map((key) => [key, reply.columns[key]?.[i] ?? null])),
    reasons: Object.fromEntries(
      keys.flatMap((key) => {
        const why = reply.reasons[key]?.[symbol];
        return why ? [[key, why]] : [];
      }),
    ),
  }));
}

/** The scale that the brackets of one table share: nine names in ten fit, the rest show an arrow. */
function sharedScale(rows: Row[]): number {
  const levels = rows
    .map((row) => Math.max(row.values.iv30 ?? 0, row.values.hv21 ?? 0))
    .filter((level) => level > 0)
    .sort((a, b) => a - b);
  return levels.length ? Math.max(10, (levels[Math.floor(levels.length * 0.93)] ?? 10) * 1.06) : 10;
}

function makeColumns(metrics: Metric[], scale: number): ColumnDef<Row>[] {
  const number = (metric: Metric): ColumnDef<Row> => ({
    id: metric.key,
    header: metric.short,
    accessorFn: (row) => row.values[metric.key] ?? undefined,
    sortUndefined: "last",
    meta: { metric },
    cell: ({ row }) => {
      const value = row.original.values[metric.key] ?? null;
      if (value === null) return <Missing why={row.original.reasons[metric.key]} />;
      if (metric.key === "change_pct")
        return (
          <>
            <span className="arrow">{arrow(value)}</span> {signed(value, 2)}
          </>
        );
      return metricText(metric.unit, metric.decimals, value);
    },
  });
  const columns: ColumnDef<Row>[] = [
    {
      id: "symbol",
      header: "Symbol",
      accessorKey: "symbol",
      cell: ({ row }) => (
        <Link to={`/dossier/${row.original.symbol}`} tabIndex={-1}>
          {row.original.symbol}
        </Link>
      ),
    },
    { id: "company", header: "Company", accessorKey: "company" },
    {
      id: "move",
      header: "Move / priced",
      enableSorting: false,
      cell: ({ row }) => (
        <MoveBracket
          moved={row.original.values.change_pct ?? null}
          expected={row.original.values.one_day_move_pct ?? null}
          width={64}
        />
      ),
    },
    {
      id: "level",
      header: "Implied / historical",
      enableSorting: false,
      cell: ({ row }) => (
        <LevelBracket
          implied={row.original.values.iv30 ?? null}
          historical={row.original.values.hv21 ?? null}
          most={scale}
          width={94}
        />
      ),
    },
    ...metrics.map(number),
  ];
  return ORDER.flatMap((id) => {
    const column = columns.find((c) => c.id === id);
    return column ? [{ ...column, size: WIDTHS[id] }] : [];
  });
}

/** The survivors: virtual rows, sorted by any column, walked with the keyboard. */
export function Results({
  rows,
  metrics,
  sorting,
  onSort,
  focused,
  onFocus,
  onOpen,
  tray,
  gridRef,
}: {
  rows: Row[];
  metrics: Metric[];
  sorting: SortingState;
  onSort: (sorting: SortingState) => void;
  focused: string | null;
  onFocus: (row: Row) => void;
  onOpen: (symbol: string) => void;
  tray: Set<string>;
  gridRef: RefObject<HTMLDivElement | null>;
}) {
  const scale = useMemo(() => sharedScale(rows), [rows]);
  const columns = useMemo(() => makeColumns(metrics, scale), [metrics, scale]);
  const table = useReactTable({
    data: rows,
    columns,
    state: { sorting },
    onSortingChange: (update) => onSort(typeof update === "function" ? update(sorting) : update),
    getRowId: (row) => row.symbol,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
    enableMultiSort: false,
    enableSortingRemoval: false,
    sortDescFirst: true,
  });
  const sorted = table.getRowModel().rows;
  const virtual = useVirtualizer({
    count: sorted.length,
    getScrollElement: () => gridRef.current,
    estimateSize: () => ROW_HEIGHT,
    overscan: 12,
  });
  const at = sorted.findIndex((row) => row.original.symbol === focused);
  const items = virtual.getVirtualItems();
  const before = items[0]?.start ?? 0;
  const after = virtual.getTotalSize() - (items.at(-1)?.end ?? 0);
  const total = table.getTotalSize();

  // The focused name is shown when the page opens and when sorting moves it.
  const order = sorting.map((s) => `${s.id}${s.desc}`).join();
  const lastOrder = useRef("");
  useEffect(() => {
    if (lastOrder.current === order || sorted.length === 0) return;
    lastOrder.current = order;
    if (at >= 0) virtual.scrollToIndex(at, { align: "auto" });
  }, [order, sorted.length, at, virtual]);

  function key(event: KeyboardEvent) {
    if (event.ctrlKey || event.metaKey || event.altKey || sorted.length === 0) return;
    const page = Math.max(1, Math.floor((gridRef.current?.clientHeight ?? 280) / ROW_HEIGHT) - 2);
    const goal: Record<string, number> = {
      ArrowDown: at + 1,
      ArrowUp: at < 0 ? 0 : at - 1,
      PageDown: at + page,
      PageUp: at - page,
      Home: 0,
      End: sorted.length - 1,
    };
    if (event.key === "Enter" && at >= 0 && event.target === event.currentTarget) {
      if (focused) onOpen(focused);
      return;
    }
    const next = goal[event.key];
    if (next === undefined || event.target !== event.currentTarget) return;
    event.preventDefault();
    const place = Math.max(0, Math.min(sorted.length - 1, next));
    const row = sorted[place];
    if (row) onFocus(row.original);
    virtual.scrollToIndex(place, { align: "auto" });
  }

  return (
    <div ref={gridRef} className="grid">
      <table
        // biome-ignore lint/a11y/noNoninteractiveElementToInteractiveRole: one widget, walked with the arrow keys
        role="grid"
        tabIndex={0}
        aria-label="Surviving names"
        aria-rowcount={sorted.length + 1}
        aria-activedescendant={at >= 0 ? `row-${focused}` : undefined}
        onKeyDown={key}
        style={{ width: total }}
      >
        <colgroup>
          {table.getAllLeafColumns().map((column) => (
            <col key={column.id} style={{ width: column.getSize() }} />
          ))}
        </colgroup>
        <thead>
          <tr aria-rowindex={1}>
            {table.getFlatHeaders().map((header) => {
              const metric = (header.column.columnDef.meta as { metric?: Metric } | undefined)?.metric;
              const direction = header.column.getIsSorted();
              const label = (
                <button
                  type="button"
                  className="column"
                  onClick={header.column.getToggleSortingHandler()}
                  disabled={!header.column.getCanSort()}
                >
                  {flexRender(header.column.columnDef.header, header.getContext())}
                  <span className="unit">
                    {direction && <b aria-hidden="true">{direction === "asc" ? "↑ " : "↓ "}</b>}
                    {metric && metric.unit !== "0–100" && metric.unit}
                  </span>
                </button>
              );
              return (
                <th
                  key={header.id}
                  className={`col-${header.id}`}
                  aria-sort={direction === "asc" ? "ascending" : direction === "desc" ? "descending" : undefined}
                >
                  {metric ? <Definition metric={metric}>{label}</Definition> : label}
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody>
          {before > 0 && (
            <tr>
              <td colSpan={columns.length} style={{ height: before }} />
            </tr>
          )}
          {items.map((item) => {
            const row = sorted[item.index];
            if (!row) return null;
            const { symbol } = row.original;
            const marks = [symbol === focused ? "focused" : "", tray.has(symbol) ? "in-tray" : ""].join(" ").trim();
            return (
              <tr
                key={row.id}
                id={`row-${symbol}`}
                aria-rowindex={item.index + 2}
                aria-selected={symbol === focused}
                className={marks || undefined}
                onClick={() => onFocus(row.original)}
                onDoubleClick={() => onOpen(symbol)}
              >
                {row.getVisibleCells().map((cell) => (
                  <td
                    key={cell.id}
                    className={`col-${cell.column.id}`}
                    title={cell.column.id === "company" ? row.original.company : undefined}
                  >
                    {flexRender(cell.column.columnDef.cell, cell.getContext())}
                  </td>
                ))}
              </tr>
            );
          })}
          {after > 0 && (
            <tr>
              <td colSpan={columns.length} style={{ height: after }} />
            </tr>
          )}
        </tbody>
      </table>
    </div>
  );
}
