import {
  Fragment,
  type KeyboardEvent,
  type MouseEvent,
  type ReactNode,
  type RefObject,
  useEffect,
  useRef,
} from "react";
import { whenRows } from "@/shared/settled";
import type { Held } from "@/shared/stack/held";
import { ChangeMarks } from "./ChangeMarks";

export type Column<Row> = {
  id: string;
  label: string;
  title: string;
  unit?: string;
  /** The metric that it shows: its Handbook entry is one key away. */
  metric?: string;
  /** It can be sorted by. */
  sorts?: boolean;
  text?: boolean;
  /** Below its label. */
  head?: ReactNode;
  cell: (row: Row) => ReactNode;
};

const WALKS = ["ArrowDown", "ArrowUp", "PageDown", "PageUp", "Home", "End", "Enter"];

/** Of a row: without spaces, which would make several of it. */
const idOf = (key: string) => `row-${key.replaceAll(" ", "_")}`;

/** Falling first, for what is large is looked for more often; names begin with the first letter. */
function turned(sort: string, id: string, rising: boolean): string {
  if (sort === id) return `-${id}`;
  if (sort === `-${id}`) return id;
  return rising ? id : `-${id}`;
}

/** Rows that are walked with the arrow keys: the focused one is the page's subject, Enter opens it, and what is below it can unfold. */
export function WalkTable<Row>({
  label,
  held,
  keyOf,
  columns,
  sort,
  onSort,
  focused,
  inTray,
  onFocus,
  onOpen,
  below,
  gridRef,
  children,
}: {
  label: string;
  /** Its rows, in the order that they keep. */
  held: Held<Row>;
  keyOf: (row: Row) => string;
  columns: Column<Row>[];
  sort: string;
  onSort: (sort: string) => void;
  focused: string | null;
  inTray: (row: Row) => boolean;
  onFocus: (row: Row) => void;
  onOpen: (row: Row) => void;
  below?: (row: Row) => ReactNode;
  gridRef: RefObject<HTMLDivElement | null>;
  /** After the last row. */
  children?: ReactNode;
}) {
  const { rows, left, version, turn } = held;
  const at = rows.findIndex((row) => keyOf(row) === focused);
  // biome-ignore lint/correctness/useExhaustiveDependencies: it is shown again where another order put it
  useEffect(() => {
    if (focused !== null) document.getElementById(idOf(focused))?.scrollIntoView({ block: "nearest" });
  }, [focused, turn]);
  const walk = (pressed: string) => {
    if (!rows.length) return;
    const page = Math.max(1, Math.floor((gridRef.current?.clientHeight ?? 280) / 28) - 2);
    const goal: Record<string, number> = {
      ArrowDown: at + 1,
      ArrowUp: at < 0 ? 0 : at - 1,
      PageDown: at + page,
      PageUp: at - page,
      Home: 0,
      End: rows.length - 1,
    };
    if (pressed === "Enter" && at >= 0) return onOpen(rows[at] as Row);
    const row = rows[Math.max(0, Math.min(rows.length - 1, goal[pressed] ?? at))];
    if (row !== undefined && pressed in goal) onFocus(row);
  };
  const latest = useRef(walk);
  latest.current = walk;
  function key(event: KeyboardEvent) {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target !== event.currentTarget) return;
    if (!WALKS.includes(event.key)) return;
    if (event.key !== "Enter") event.preventDefault();
    whenRows(() => latest.current(event.key));
  }
  const sortedBy = sort.replace(/^-/, "");
  return (
    <div ref={gridRef} className="grid walk">
      <table
        // biome-ignore lint/a11y/noNoninteractiveElementToInteractiveRole: one widget, walked with the arrow keys
        role="grid"
        tabIndex={0}
        aria-label={label}
        aria-activedescendant={at >= 0 && focused !== null ? idOf(focused) : undefined}
        onKeyDown={key}
      >
        <thead>
          <tr>
            {columns.map((column) => {
              const direction =
                column.sorts && column.id === sortedBy
                  ? sort.startsWith("-")
                    ? "descending"
                    : "ascending"
                  : undefined;
              const name = (
                <>
                  {column.label}
                  <span className="unit">
                    {direction && <b aria-hidden="true">{direction === "ascending" ? "↑ " : "↓ "}</b>}
                    {column.unit}
                  </span>
                </>
              );
              return (
                <th
                  key={column.id}
                  className={`col-${column.id}`}
                  data-kind={column.text ? "text" : undefined}
                  data-metric={column.metric}
                  aria-sort={direction}
                  title={column.title}
                >
                  {column.sorts ? (
                    <button
                      type="button"
                      className="column"
                      onClick={() => onSort(turned(sort, column.id, column.id === "symbol"))}
                    >
                      {name}
                    </button>
                  ) : (
                    name
                  )}
                  {column.head}
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => {
            const id = keyOf(row);
            const states = [id === focused && "focused", inTray(row) && "in-tray", left.has(id) && "left"];
            const marks = states.filter(Boolean).join(" ");
            const unfolded = below?.(row);
            return (
              <Fragment key={id}>
                <tr
                  id={idOf(id)}
                  className={marks || undefined}
                  aria-selected={id === focused}
                  onClick={(event: MouseEvent) => (event.target as HTMLElement).closest("button, a") || onFocus(row)}
                  title={left.has(id) ? "Left the list; as it was before" : undefined}
                  onDoubleClick={() => onOpen(row)}
                >
                  {columns.map((column) => (
                    <td key={column.id} className={`col-${column.id}`} data-kind={column.text ? "text" : undefined}>
                      {column.cell(row)}
                    </td>
                  ))}
                </tr>
                {unfolded && (
                  <tr className="below">
                    <td colSpan={columns.length}>{unfolded}</td>
                  </tr>
                )}
              </Fragment>
            );
          })}
        </tbody>
      </table>
      <ChangeMarks within={gridRef} version={version} />
      {children}
    </div>
  );
}
