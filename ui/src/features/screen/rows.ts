import type { Schemas, ScreenReply } from "@/shared/api/client";

export type Column = Schemas["ColumnReply"];
/** A survivor, or a name that has left since the list was put in order; its company and numbers are there when its page has come. */
export type Row = { i: number; symbol: string; company: string; sector: string; loaded: boolean; left: boolean };
export type Page = Schemas["RowsReply"];

/** Rows that are asked for together. */
export const PAGE = 100;

/** Columns that are drawn from two numbers each. */
export const DRAWN: Record<string, { label: string; needs: [string, string] }> = {
  move: { label: "Move / priced", needs: ["change_pct", "one_day_move_pct"] },
  level: { label: "Implied / historical", needs: ["iv30", "hv21"] },
};

/** The numbers that columns need, each once. */
export function needed(ids: string[]): string[] {
  return [...new Set(ids.flatMap((id) => DRAWN[id]?.needs ?? [id]))];
}

const firsts = new WeakMap<ScreenReply, Page>();

/** The page that comes with a screen's answer, whose symbols are those of all survivors; the same object every time. */
export function firstPage(reply: ScreenReply): Page {
  const known = firsts.get(reply);
  if (known) return known;
  const page = { ...reply, symbols: reply.symbols.slice(reply.first, reply.first + reply.companies.length) };
  firsts.set(reply, page);
  return page;
}

/** Pages that belong to these survivors: one that was read from another moment of the market waits for its own. */
export const belonging = (symbols: string[], pages: Page[]): Page[] =>
  pages.filter((page) => page.symbols.every((symbol, k) => symbols[page.first + k] === symbol));

const bare = new WeakMap<string[], Row[]>();
const leaving = new WeakMap<string[], Row[]>();
const told = new WeakMap<Page, Row[]>();

function once<K extends object>(kept: WeakMap<K, Row[]>, key: K, make: () => Row[]): Row[] {
  const rows = kept.get(key) ?? make();
  kept.set(key, rows);
  return rows;
}

const places = new WeakMap<string[], Map<string, number>>();

/** Where each of some symbols stands. */
export function placesOf(symbols: string[]): Map<string, number> {
  const known = places.get(symbols) ?? new Map(symbols.map((symbol, i) => [symbol, i]));
  places.set(symbols, known);
  return known;
}

/** All survivors in an order of their own, with those that left; a row is the same object until its page brings other values. */
export function toRows(symbols: string[], pages: Page[], order: string[] = symbols): Row[] {
  const rows = [...once(bare, symbols, () => symbols.map((symbol, i) => bareRow(symbol, i, false)))];
  for (const page of pages)
    for (const row of once(told, page, () =>
      page.symbols.map((symbol, k) => ({
        i: page.first + k,
        symbol,
        company: page.companies[k] ?? "",
        sector: page.sectors[k] ?? "",
        loaded: true,
        left: false,
      })),
    ))
      rows[row.i] = row;
  if (order === symbols) return rows;
  const place = placesOf(symbols);
  const gone = once(leaving, order, () => order.map((symbol) => bareRow(symbol, -1, true)));
  return order.map((symbol, k) => rows[place.get(symbol) ?? -1] ?? (gone[k] as Row));
}

const bareRow = (symbol: string, i: number, left: boolean): Row => ({
  i,
  symbol,
  company: "",
  sector: "",
  loaded: left,
  left,
});

/** Columns by key, with the values of all pages where their rows are. */
export type Columns = Map<string, Column>;

export function toColumns(pages: Page[]): Columns {
  const columns: Columns = new Map();
  for (const page of pages)
    for (const part of page.columns) {
      const column = columns.get(part.key) ?? { ...part, numbers: [], texts: [], reasons: {} };
      part.numbers.forEach((value, k) => {
        column.numbers[page.first + k] = value;
      });
      part.texts.forEach((text, k) => {
        column.texts[page.first + k] = text;
      });
      Object.assign(column.reasons, part.reasons);
      columns.set(part.key, column);
    }
  return columns;
}

export const valueAt = (columns: Columns, key: string, row: Row): number | null =>
  columns.get(key)?.numbers[row.i] ?? null;

/** The columns shown: those chosen, and what rules measure that is not among them, beside the drawn ones or at the end. */
export function withMeasured(chosen: string[], measured: string[]): string[] {
  const shown = new Set(needed(chosen));
  const more = measured.filter((key) => !shown.has(key)).slice(0, 8);
  if (more.length === 0) return chosen;
  const place = chosen.indexOf("level") + 1 || chosen.length;
  return [...chosen.slice(0, place), ...more, ...chosen.slice(place)];
}

/** The values of one name, as they go to the tray with it. */
export function valuesOf(columns: Columns, row: Row, keys: string[]): Record<string, number | null> {
  return Object.fromEntries(keys.map((key) => [key, columns.get(key)?.numbers[row.i] ?? null]));
}

/** The scale that the brackets of one table share: nine names in ten fit, the rest show an arrow. */
export function sharedScale(columns: Columns): number {
  return Math.max(10, 1.06 * Math.max(...["iv30", "hv21"].map((key) => columns.get(key)?.usual_highest ?? 0)));
}
