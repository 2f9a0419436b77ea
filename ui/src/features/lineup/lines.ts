import type { Schemas } from "@/shared/api/client";

export type Row = Schemas["LineupRow"];

export const BASELINES = [
  ["yesterday", "yesterday"],
  ["mean21", "its mean of 21 sessions"],
  ["mean252", "its mean of 52 weeks"],
  ["hv", "historical volatility"],
  ["forecast", "the forecast"],
  ["own", "another metric"],
] as const;

export const ORDERS = [
  ["ratio", "ratio"],
  ["change", "change"],
  ["value", "value"],
  ["baseline", "baseline"],
  ["percentile", "percentile"],
] as const;
export type Order = (typeof ORDERS)[number][0];

/** What has no value comes last, whichever way. */
export function ordered(rows: Row[], by: Order, rising: boolean): Row[] {
  return rows.toSorted((a, b) => {
    const one = a[by];
    const two = b[by];
    if (one === null || two === null) return Number(one === null) - Number(two === null);
    return rising ? one - two : two - one;
  });
}

/** The groups that can be lined up. */
export function sourcesOf(baskets: Schemas["BasketList"] | undefined): [string, [string, string][]][] {
  const kept = (list: Schemas["KeptBasket"][] | undefined) =>
    (list ?? []).map((b): [string, string] => [b.source, b.name]);
  return [
    [
      "working",
      [
        ["tray", "the tray"],
        ["fund", "all funds"],
        ["stock", "all companies"],
      ],
    ],
    ["sectors", kept(baskets?.sectors)],
    ["members of a fund", kept(baskets?.funds)],
    ["baskets", (baskets?.own ?? []).map((b): [string, string] => [`basket:${b.id}`, b.name])],
  ];
}
