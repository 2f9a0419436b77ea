import type { Metric } from "@/shared/api/client";
import type { Rule } from "./state";

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
