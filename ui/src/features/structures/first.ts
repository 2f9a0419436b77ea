import { rule, type Screen, USUAL_SEARCH } from "@/shared/stack/state";

/** Names that the page begins with while the tray is empty: those that a ready screen leaves. */
export const WORTH_A_LOOK = "screen:s-premium-to-sell";

/** The page begins with short verticals and condors on the tray, and the usual numbers at hand without an edge. */
export const FIRST: Screen = {
  universe: "tray",
  rules: [
    "chance_of_profit_past",
    "return_on_capital",
    "edge_forecast",
    "disagreement",
    "min_leg_open_interest",
    "quoted_width_pct",
    "days_to_earnings",
  ].map(rule),
  anyGroups: [],
  columns: [
    "dte",
    "cost",
    "max_loss",
    "return_on_capital",
    "edge_past",
    "edge_forecast",
    "edge_market",
    "max_profit",
    "min_leg_open_interest",
  ],
  sort: ["-edge_forecast"],
  view: "table",
  table: "structures",
  sessions: 1,
  search: USUAL_SEARCH,
};
