import { rule, type Screen } from "@/shared/stack/state";

/** The page begins with the day's tickets in companies, and the usual numbers at hand without an edge. */
export const FIRST: Screen = {
  universe: "stock",
  rules: [
    "premium",
    "market_cap",
    "dte",
    "out_of_the_money_pct",
    "side",
    "ask_share",
    "volume_over_interest",
    "first_in",
    "since",
  ].map(rule),
  anyGroups: [],
  columns: [],
  sort: ["-premium"],
  view: "names",
  table: "tickets",
  sessions: 1,
  search: null,
};
