import type { Metric, Why } from "@/shared/api/client";
import { compact, metricText } from "@/shared/format";

/** A range on a metric; a missing edge is open. `bad` is a text that is no range: the rule then cuts nothing and says so. */
export type Rule = {
  metric: string;
  lower: number | null;
  upper: number | null;
  bad?: { text: string; message: string };
};

export type Universe = "all" | "stock" | "fund";
export const UNIVERSES: { value: Universe; label: string }[] = [
  { value: "all", label: "all" },
  { value: "stock", label: "stocks" },
  { value: "fund", label: "funds" },
];

const NUMBER = /^[+-]?(\d{1,15}(\.\d{0,12})?|\.\d{1,12})(e[+-]?\d{1,2})?$/i;
const SUFFIX: Record<string, number> = { k: 1e3, m: 1e6, b: 1e9, t: 1e12 };

/** A number as people write it: 1,200 or 1.2B; null when the text is empty, undefined when it is no number. */
export function readNumber(text: string): number | null | undefined {
  const clean = text.trim().replaceAll(",", "").replaceAll("−", "-");
  if (!clean) return null;
  const suffix = SUFFIX[clean.slice(-1).toLowerCase()];
  const digits = suffix ? clean.slice(0, -1).trim() : clean;
  if (!NUMBER.test(digits)) return undefined;
  // Powers of ten times a decimal leave dust behind; no edge needs more than twelve digits.
  return Number((Number(digits) * (suffix ?? 1)).toPrecision(12));
}

export function notANumber(label: string, text: string): string {
  return `${label}: “${text.slice(0, 20)}” is not a number. Write it like 12.5, 800k or 1.2B.`;
}

export function inverted(label: string, lower: number, upper: number): string {
  return `${label}: the lower edge ${compact(lower)} is above the upper edge ${compact(upper)}. Swap them.`;
}

/** Read a rule from the page's address. */
export function readRule(metric: Metric, text: string | null): Rule {
  const open: Rule = { metric: metric.key, lower: null, upper: null };
  if (!text) return open;
  const parts = text.split("..");
  const bad = (message: string): Rule => ({ ...open, bad: { text, message } });
  if (parts.length !== 2)
    return bad(`${metric.short}: “${text.slice(0, 20)}” is not a range. Write it as lower..upper.`);
  const [low = "", high = ""] = parts;
  const lower = readNumber(low);
  const upper = readNumber(high);
  if (lower === undefined) return bad(notANumber(metric.short, low));
  if (upper === undefined) return bad(notANumber(metric.short, high));
  if (lower !== null && upper !== null && lower > upper) return bad(inverted(metric.short, lower, upper));
  return { ...open, lower, upper };
}

/** As it stands in the page's address and in a request; empty when open. */
export function writeRange(rule: Rule): string {
  if (rule.lower === null && rule.upper === null) return "";
  return `${rule.lower ?? ""}..${rule.upper ?? ""}`;
}

export function isOpen(rule: Rule): boolean {
  return rule.lower === null && rule.upper === null;
}

/** 15 ≤ Price ≤ 250 */
export function ruleWords(metric: Metric, rule: Rule): string {
  const text = (value: number) => metricText(metric.unit, metric.decimals, value);
  const low = rule.lower === null ? "" : `${text(rule.lower)} ≤ `;
  const high = rule.upper === null ? "" : ` ≤ ${text(rule.upper)}`;
  return `${low}${metric.short}${high}`;
}

/** Why a name of this screen goes to the tray: the rules in words, the way back, and the values now. */
export function reasonFor(
  metrics: Metric[],
  rules: Rule[],
  universe: Universe,
  link: string,
  values: Record<string, number | null>,
): Why {
  const set = rules.filter((rule) => !isOpen(rule));
  const words = set.map((rule) => {
    const metric = metrics.find((m) => m.key === rule.metric);
    return metric ? ruleWords(metric, rule) : rule.metric;
  });
  const start = { all: "all names", stock: "stocks", fund: "funds" }[universe];
  const keys = set.length > 0 ? set.map((rule) => rule.metric) : ["price", "iv30", "iv_hv_ratio"];
  return {
    page: "Screen",
    words: [start, ...words].join(" · "),
    link,
    values: Object.fromEntries(keys.map((key) => [key, values[key] ?? null])),
  };
}
