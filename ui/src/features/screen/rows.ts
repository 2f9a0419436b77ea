import type { Metric, Schemas, ScreenReply } from "@/shared/api/client";
import type { Rule } from "./state";

export type Column = Schemas["ColumnReply"];
export type Row = { i: number; symbol: string; company: string; sector: string };

/** Columns that are drawn from two numbers each. */
export const DRAWN: Record<string, { label: string; needs: [string, string] }> = {
  move: { label: "Move / priced", needs: ["change_pct", "one_day_move_pct"] },
  level: { label: "Implied / historical", needs: ["iv30", "hv21"] },
};

/** The numbers that columns need, each once. */
export function needed(ids: string[]): string[] {
  return [...new Set(ids.flatMap((id) => DRAWN[id]?.needs ?? [id]))];
}

export function toRows(reply: ScreenReply): Row[] {
  return reply.symbols.map((symbol, i) => ({
    i,
    symbol,
    company: reply.companies[i] ?? "",
    sector: reply.sectors[i] ?? "",
  }));
}

export type Columns = Map<string, Column>;

export const toColumns = (reply: ScreenReply): Columns => new Map(reply.columns.map((column) => [column.key, column]));

export const valueAt = (columns: Columns, key: string, row: Row): number | null =>
  columns.get(key)?.numbers[row.i] ?? null;

/** The numbers that rules with edges speak of. */
export function measuredBy(rules: Rule[], metrics: Map<string, Metric>): string[] {
  const words = rules
    .filter((rule) => rule.on && rule.bars === "day" && !/^\w+$/.test(rule.text))
    .flatMap((rule) => rule.text.match(/[A-Za-z_]\w*/g) ?? [])
    .filter((word) => (metrics.get(word)?.kind ?? "text") !== "text");
  return [...new Set(words)].slice(0, 20);
}

/** The same, or the usual three when no rule cuts. */
export function spokenOf(rules: Rule[], metrics: Map<string, Metric>): string[] {
  const words = measuredBy(rules, metrics);
  return words.length > 0 ? words : ["price", "iv30", "iv_hv_ratio"];
}

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

/** Rows in the order of up to two keys; what has no value comes last whichever way. */
export function ordered(rows: Row[], columns: Columns, sort: string[]): Row[] {
  const keys = sort.map((key) => ({ key: key.replace(/^-/, ""), sign: key.startsWith("-") ? -1 : 1 }));
  const out = [...rows];
  out.sort((a, b) => {
    for (const { key, sign } of keys) {
      const order = compare(a, b, key, sign, columns);
      if (order !== 0) return order;
    }
    return a.i - b.i;
  });
  return out;
}

function compare(a: Row, b: Row, key: string, sign: number, columns: Columns): number {
  if (key === "symbol" || key === "company") return sign * a[key].localeCompare(b[key]);
  const column = columns.get(key);
  if (!column) return 0;
  if (column.kind === "text") return sign * (column.texts[a.i] ?? "").localeCompare(column.texts[b.i] ?? "");
  const [x, y] = [column.numbers[a.i] ?? null, column.numbers[b.i] ?? null];
  if (x === null || y === null) return x === y ? 0 : x === null ? 1 : -1;
  return sign * (x - y);
}

/** The scale that the brackets of one table share: nine names in ten fit, the rest show an arrow. */
export function sharedScale(rows: Row[], columns: Columns): number {
  const levels = rows
    .map((row) => Math.max(valueAt(columns, "iv30", row) ?? 0, valueAt(columns, "hv21", row) ?? 0))
    .filter((level) => level > 0)
    .sort((a, b) => a - b);
  return levels.length ? Math.max(10, (levels[Math.floor(levels.length * 0.93)] ?? 10) * 1.06) : 10;
}
