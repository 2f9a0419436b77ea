import { rule, type Screen } from "@/shared/stack/state";

/** The page begins with all companies, and what is usually asked beside their prints without an edge. */
export const FIRST: Screen = {
  universe: "stock",
  rules: ["market_cap", "avg_dollar_volume_21", "change_pct", "days_to_earnings", "short_percent_float", "iv_rank"].map(
    rule,
  ),
  anyGroups: [],
  columns: [],
  sort: [],
  view: "table",
  table: "names",
  sessions: 1,
  search: null,
};
