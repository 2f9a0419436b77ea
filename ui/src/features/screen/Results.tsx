import { useVirtualizer } from "@tanstack/react-virtual";
import {
  type KeyboardEvent,
  type MouseEvent,
  memo,
  type ReactNode,
  type RefObject,
  useCallback,
  useEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { asOfDay } from "@/shared/address";
import type { Metric } from "@/shared/api/client";
import { LevelBracket, MoveBracket } from "@/shared/chart/BracketBar";
import { arrow, metricText, signed } from "@/shared/format";
import { whenRows } from "@/shared/settled";
import { ChangeMarks } from "@/shared/ui/ChangeMarks";
import { Definition } from "@/shared/ui/Definition";
import { Missing } from "@/shared/ui/Missing";
import { SymbolLink } from "@/shared/ui/SymbolLink";
import { type Column, type Columns, DRAWN, type Row, valueAt } from "./rows";

const ROW_HEIGHT = 28;
const WALKS = ["ArrowDown", "ArrowUp", "PageDown", "PageUp", "Home", "End", "Enter"];
const WIDE: Record<string, number> = { move: 76, level: 106 };

type Shown = {
  id: string;
  label: string;
  unit: string;
  width: number;
  metric: Metric | undefined;
  column: Column | undefined;
};

/** What the table shows, in order: the name, then the columns that were chosen. */
function shownColumns(ids: string[], columns: Columns, metrics: Map<string, Metric>): Shown[] {
  const plain = (id: string, label: string, width: number): Shown => ({
    id,
    label,
    unit: "",
    width,
    metric: undefined,
    column: undefined,
  });
  const rest = ids.map((id): Shown => {
    const drawn = DRAWN[id];
    if (drawn) return plain(id, drawn.label, WIDE[id] ?? 90);
    const column = columns.get(id);
    const metric = metrics.get(id);
    const label = metric?.short ?? column?.short ?? id;
    const unit = metric?.unit ?? column?.unit ?? "";
    return { id, label, unit: unit === "0–100" ? "" : unit, width: widthOf(id, label, column), metric, column };
  });
  return [plain("symbol", "Symbol", 64), plain("company", "Company", 100), ...rest];
}

/** Room for the longest number of a column and for its label on two lines. */
function widthOf(id: string, label: string, column: Column | undefined): number {
  if (column?.kind === "text") return 130;
  const words = label.split(/[ /]/).map((word) => word.length);
  const [lowest, highest] = [column?.lowest ?? 0, column?.highest ?? 0];
  const longest = Math.max(Math.abs(lowest), Math.abs(highest), column?.kind === "condition" ? 0 : 1);
  const below = lowest < 0 ? 1 : 0;
  const digits = longest >= 10_000 ? 5 + below : Math.ceil(Math.log10(longest + 1)) + (column?.decimals ?? 0) + 2;
  const letters = Math.max(digits, label.length / 2, ...words);
  const aged = Object.keys(column?.stale ?? {}).length > 0 ? 42 : 0;
  return Math.round(Math.max(44, 14 + 7.4 * letters) + (id === "change_pct" ? 10 : 0) + aged);
}

/** The survivors: virtual rows, sorted by up to two columns, walked with the keyboard. */
export function Results({
  rows,
  ids,
  columns,
  metrics,
  scale,
  sort,
  order,
  version,
  turn,
  onSort,
  onSeen,
  asOf,
  focused,
  onFocus,
  onOpen,
  tray,
  gridRef,
}: {
  /** In the order shown; those of pages that have not come are symbols alone. */
  rows: Row[];
  ids: string[];
  columns: Columns;
  metrics: Map<string, Metric>;
  scale: number;
  sort: string[];
  /** The keys that the rows are in the order of: those of `sort`, once they have come. */
  order: string;
  /** The moment that the rows are of. */
  version: string | undefined;
  /** How often they were put in order while moments came. */
  turn: number;
  onSort: (sort: string[]) => void;
  /** Which rows are on the page. */
  onSeen: (first: number, last: number) => void;
  asOf: string | null;
  focused: string | null;
  onFocus: (row: Row) => void;
  onOpen: (symbol: string) => void;
  tray: Set<string>;
  gridRef: RefObject<HTMLDivElement | null>;
}) {
  const shown = useMemo(() => shownColumns(ids, columns, metrics), [ids, columns, metrics]);
  const [cursor, setCursor] = useState(0);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => gridRef.current,
    estimateSize: () => ROW_HEIGHT,
    overscan: 8,
  });
  const at = useMemo(() => rows.findIndex((row) => row.symbol === focused), [rows, focused]);
  const items = virtual.getVirtualItems();
  const [firstSeen, lastSeen] = [items[0]?.index ?? 0, items.at(-1)?.index ?? 0];
  useEffect(() => onSeen(firstSeen, lastSeen), [onSeen, firstSeen, lastSeen]);
  const before = items[0]?.start ?? 0;
  const after = virtual.getTotalSize() - (items.at(-1)?.end ?? 0);
  const total = shown.reduce((sum, column) => sum + column.width, 0);

  // The focused name is shown when the page opens and when another order moves it.
  const lastOrder = useRef<string | null>(null);
  const inOrder = `${order} ${turn}`;
  useEffect(() => {
    if (lastOrder.current === inOrder || rows.length === 0) return;
    lastOrder.current = inOrder;
    if (at >= 0) virtual.scrollToIndex(at, { align: "auto" });
  }, [inOrder, rows.length, at, virtual]);

  // The same two functions every time, so that lines need not be drawn again because the page was.
  const latest = useRef({ onFocus, onOpen });
  latest.current = { onFocus, onOpen };
  const focusRow = useCallback((row: Row) => latest.current.onFocus(row), []);
  const openRow = useCallback((symbol: string) => latest.current.onOpen(symbol), []);

  const here = shown[Math.min(cursor, shown.length - 1)];

  function key(event: KeyboardEvent) {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target !== event.currentTarget) return;
    if (event.key === "ArrowRight" || event.key === "ArrowLeft") {
      event.preventDefault();
      return setCursor(Math.max(0, Math.min(shown.length - 1, cursor + (event.key === "ArrowRight" ? 1 : -1))));
    }
    if (!WALKS.includes(event.key)) return;
    if (event.key !== "Enter") event.preventDefault();
    whenRows(() => walks.current(event.key));
  }
  const walk = (pressed: string) => {
    if (rows.length === 0) return;
    const page = Math.max(1, Math.floor((gridRef.current?.clientHeight ?? 280) / ROW_HEIGHT) - 2);
    const goal: Record<string, number> = {
      ArrowDown: at + 1,
      ArrowUp: at < 0 ? 0 : at - 1,
      PageDown: at + page,
      PageUp: at - page,
      Home: 0,
      End: rows.length - 1,
    };
    if (pressed === "Enter") {
      if (focused && at >= 0) onOpen(focused);
      return;
    }
    const next = goal[pressed];
    if (next === undefined) return;
    const place = Math.max(0, Math.min(rows.length - 1, next));
    const row = rows[place];
    if (row) onFocus(row);
    virtual.scrollToIndex(place, { align: "auto" });
  };
  const walks = useRef(walk);
  walks.current = walk;

  return (
    <div ref={gridRef} className="grid">
      <table
        // biome-ignore lint/a11y/noNoninteractiveElementToInteractiveRole: one widget, walked with the arrow keys
        role="grid"
        tabIndex={0}
        aria-label="Surviving names"
        aria-rowcount={rows.length + 1}
        aria-activedescendant={at >= 0 ? `row-${focused}` : undefined}
        data-metric={here?.metric ? here.id : undefined}
        onKeyDown={key}
        style={{ width: `max(100%, ${total}px)` }}
      >
        <colgroup>
          {shown.map((column) => (
            // What is left of a wide window is the company's.
            <col key={column.id} style={{ width: column.id === "company" ? undefined : column.width }} />
          ))}
        </colgroup>
        <Head shown={shown} sort={sort} order={order} onSort={onSort} />
        <tbody>
          {before > 0 && (
            <tr>
              <td colSpan={shown.length} style={{ height: before }} />
            </tr>
          )}
          {items.map((item) => {
            const row = rows[item.index];
            if (!row) return null;
            return (
              <Line
                key={row.symbol}
                row={row}
                index={item.index}
                ids={ids}
                columns={columns}
                metrics={metrics}
                scale={scale}
                asOf={asOf}
                cursor={row.symbol === focused ? (here?.id ?? null) : null}
                inTray={tray.has(row.symbol)}
                focused={row.symbol === focused}
                onFocus={focusRow}
                onOpen={openRow}
                onCursor={setCursor}
              />
            );
          })}
          {after > 0 && (
            <tr>
              <td colSpan={shown.length} style={{ height: after }} />
            </tr>
          )}
        </tbody>
      </table>
      <ChangeMarks within={gridRef} version={version} />
    </div>
  );
}

/** Drawn again only when the columns or the sorting change, not while rows pass by. */
const Head = memo(function Head({
  shown,
  sort,
  order,
  onSort,
}: {
  shown: Shown[];
  sort: string[];
  order: string;
  onSort: (sort: string[]) => void;
}) {
  function sortBy(id: string, second: boolean) {
    const kept = sort.filter((key) => key.replace(/^-/, "") !== id);
    const now = sort.find((key) => key.replace(/^-/, "") === id);
    // Falling first: what is large is looked for more often.
    const next = now?.startsWith("-") ? id : `-${id}`;
    onSort(second && kept.length > 0 ? [kept[0] as string, next] : [next]);
  }
  return (
    <thead>
      <tr aria-rowindex={1}>
        {shown.map((column) => (
          <Header key={column.id} shown={column} sort={order ? order.split(",") : []} onSort={sortBy} />
        ))}
      </tr>
    </thead>
  );
});

function Header({
  shown,
  sort,
  onSort,
}: {
  shown: Shown;
  sort: string[];
  onSort: (id: string, second: boolean) => void;
}) {
  const place = sort.findIndex((key) => key.replace(/^-/, "") === shown.id);
  const direction = place < 0 ? undefined : sort[place]?.startsWith("-") ? "descending" : "ascending";
  const sortable = !(shown.id in DRAWN);
  const label = (
    <button
      type="button"
      className="column"
      disabled={!sortable}
      title={sortable ? "Sort; with Shift as the second key" : undefined}
      onClick={(event: MouseEvent) => onSort(shown.id, event.shiftKey)}
    >
      {shown.label}
      <span className="unit">
        {direction && (
          <b aria-hidden="true">
            {direction === "ascending" ? "↑" : "↓"}
            {sort.length > 1 ? place + 1 : ""}{" "}
          </b>
        )}
        {shown.column?.error ? "?" : shown.unit}
      </span>
    </button>
  );
  return (
    <th className={`col-${shown.id}`} aria-sort={direction} data-kind={shown.column?.kind}>
      {shown.metric ? <Definition metric={shown.metric}>{label}</Definition> : label}
    </th>
  );
}

type LineProps = {
  row: Row;
  index: number;
  ids: string[];
  columns: Columns;
  metrics: Map<string, Metric>;
  scale: number;
  asOf: string | null;
  cursor: string | null;
  inTray: boolean;
  focused: boolean;
  onFocus: (row: Row) => void;
  onOpen: (symbol: string) => void;
  onCursor: (place: number) => void;
};

/** Whether a line may stay as it is drawn. Its values are those of its row: other values come with another row. */
function sameLine(before: LineProps, after: LineProps): boolean {
  return (Object.keys(after) as (keyof LineProps)[]).every((key) => key === "columns" || before[key] === after[key]);
}

/** One name. Drawn again only when something of its own changes, so that scrolling stays light. */
const Line = memo(function Line({
  row,
  index,
  ids,
  columns,
  metrics,
  scale,
  asOf,
  cursor,
  inTray,
  focused,
  ...on
}: LineProps) {
  const marks = [focused && "focused", inTray && "in-tray", row.left && "left"].filter(Boolean).join(" ");
  const cell = (id: string, place: number, content: ReactNode, title?: string, text = false) => (
    <td
      key={id}
      className={`col-${id}${cursor === id ? " cursor" : ""}`}
      data-kind={text ? "text" : undefined}
      title={title}
      onPointerDown={() => on.onCursor(place)}
    >
      {content}
    </td>
  );
  return (
    <tr
      id={`row-${row.symbol}`}
      aria-rowindex={index + 2}
      aria-selected={focused}
      aria-busy={!row.loaded}
      className={marks || undefined}
      onClick={() => on.onFocus(row)}
      onDoubleClick={() => on.onOpen(row.symbol)}
    >
      {cell(
        "symbol",
        0,
        <SymbolLink symbol={row.symbol} to={asOfDay(`/dossier/${row.symbol}`, asOf)} onOpen={on.onOpen} />,
      )}
      {row.left && (
        <td className="gone" colSpan={1 + ids.length}>
          left the list
        </td>
      )}
      {!row.left && cell("company", 1, row.company, row.company)}
      {(row.left ? [] : ids).map((id, place) => {
        const column = columns.get(id);
        return cell(
          id,
          place + 2,
          <Cell id={id} row={row} columns={columns} metric={metrics.get(id)} scale={scale} />,
          column?.kind === "text" ? column.texts[row.i] : undefined,
          column?.kind === "text",
        );
      })}
    </tr>
  );
}, sameLine);

function Cell({
  id,
  row,
  columns,
  metric,
  scale,
}: {
  id: string;
  row: Row;
  columns: Columns;
  metric: Metric | undefined;
  scale: number;
}) {
  if (!row.loaded) return null;
  if (id === "move")
    return (
      <MoveBracket
        moved={valueAt(columns, "change_pct", row)}
        expected={valueAt(columns, "one_day_move_pct", row)}
        width={64}
      />
    );
  if (id === "level")
    return (
      <LevelBracket
        implied={valueAt(columns, "iv30", row)}
        historical={valueAt(columns, "hv21", row)}
        most={scale}
        width={94}
      />
    );
  const column = columns.get(id);
  if (!column) return null;
  if (column.kind === "text") return column.texts[row.i] || <Missing why={column.reasons[row.symbol]} />;
  const value = column.numbers[row.i] ?? null;
  if (value === null) return <Missing why={column.error ?? column.reasons[row.symbol]} />;
  if (column.kind === "condition") return value > 0 ? "yes" : "no";
  if (id === "change_pct")
    return (
      <>
        <span className="arrow">{arrow(value)}</span> {signed(value, 2)}
      </>
    );
  const shown = metricText(metric?.unit ?? column.unit, column.decimals, value);
  const stale = column.stale[row.symbol];
  if (!stale) return shown;
  return (
    <span title={`${stale.words[0]?.toUpperCase()}${stale.words.slice(1)}: newer figures are overdue.`}>
      <small className="aged">
        {stale.days} d<span className="visually-hidden"> old</span>
      </small>{" "}
      {shown}
    </span>
  );
}
