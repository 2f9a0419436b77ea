import { rule, type Screen } from "@/shared/stack/state";

export const COLUMNS = [
  "price",
  "change_pct",
  "move",
  "level",
  "iv30",
  "hv21",
  "iv_hv_ratio",
  "iv_rank",
  "iv_percentile",
  "days_to_earnings",
  "avg_option_volume_21",
  "avg_volume_50",
  "market_cap",
  "one_day_move_pct",
  "spent",
];

/** The first page: the whole market, dearest first, with the usual numbers at hand and no edge set. */
export const FIRST: Screen = {
  universe: "all",
  rules: [
    "price",
    "avg_volume_50",
    "market_cap",
    "avg_option_volume_21",
    "iv30",
    "iv_hv_ratio",
    "iv_rank",
    "iv_percentile",
    "days_to_earnings",
  ].map(rule),
  anyGroups: [],
  columns: [],
  sort: ["-iv_hv_ratio"],
  view: "table",
  table: "names",
  sessions: 1,
  search: null,
};
