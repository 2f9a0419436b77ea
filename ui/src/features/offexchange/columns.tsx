import type { ReactNode } from "react";
import type { Schemas } from "@/shared/api/client";
import { clock, compact, date, number, signed } from "@/shared/format";
import { Missing } from "@/shared/ui/Missing";
import type { Column } from "@/shared/ui/WalkTable";
import { LevelAxis, LevelDots } from "./LevelDots";

export type NameRow = Schemas["PrintsName"];
export type PrintRow = Schemas["PrintLine"];
type Link = (symbol: string) => ReactNode;

const SHORT: Record<NameRow["position"], string> = {
  "above all": "above",
  within: "within",
  "below all": "below",
  "none that large": "none large",
  none: "none",
};
const TIMING: Record<string, string> = { before_open: "before the open", after_close: "after the close" };

function level(row: NameRow, price: number | null, pct: number | null, moves: number | null, side: string) {
  if (price === null) return <Missing why={row.count ? `no level lies ${side} the price` : none(row)} />;
  return (
    <span title={`${signed(pct, 2)} % from the price`}>
      <small>{number(price, 2)}</small> {signed(moves, 1)}
    </span>
  );
}

const none = (row: NameRow) =>
  row.position === "none" ? "there are no prints in the window" : "no level in the window is that large";

export const nameColumns = (link: Link, reach: number, most: number): Column<NameRow>[] => [
  { id: "symbol", label: "Symbol", title: "The name", sorts: true, text: true, cell: (row) => link(row.symbol) },
  {
    id: "price",
    label: "Price",
    title: "Now",
    unit: "$",
    cell: (row) => <span title={`${signed(row.change_pct, 2)} % since the close before`}>{number(row.price, 2)}</span>,
  },
  {
    id: "position",
    label: "Stands",
    title: "Where price is against all levels: prices at which at least that much was printed over the window",
    sorts: true,
    text: true,
    cell: (row) => SHORT[row.position],
  },
  {
    id: "levels",
    label: "Levels",
    title:
      "In one-day expected moves from the price; the bracket is one of them to each side, dots are larger for more",
    head: <LevelAxis reach={reach} />,
    cell: (row) => <LevelDots levels={row.levels} total={row.count} reach={reach} most={most} />,
  },
  {
    id: "above_moves",
    label: "Above",
    title: "The nearest level above: its price, how far in expected moves and in percent",
    unit: "$, σ",
    sorts: true,
    cell: (row) => level(row, row.above, row.above_pct, row.above_moves, "above"),
  },
  {
    id: "below_moves",
    label: "Below",
    title: "The nearest level below: its price, how far in expected moves and in percent",
    unit: "$, σ",
    sorts: true,
    cell: (row) => level(row, row.below, row.below_pct, row.below_moves, "below"),
  },
  {
    id: "largest",
    label: "Largest",
    title: "The level with the most notional: its price and how much",
    unit: "$",
    sorts: true,
    cell: (row) =>
      row.largest === null ? (
        <Missing why={none(row)} />
      ) : (
        <span title={`At ${number(row.largest, 2)}, ${signed(row.largest_moves, 1)} expected moves away`}>
          {compact(row.largest_notional)}
        </span>
      ),
  },
  {
    id: "share_pct",
    label: "Share",
    title: "Shares of all prints in the window in percent of the volume traded in it",
    unit: "%",
    sorts: true,
    cell: (row) => (row.share_pct === null ? <Missing why="no volume is known" /> : number(row.share_pct, 1)),
  },
  {
    id: "days_to_earnings",
    label: "Earnings",
    title: "Calendar days to the next report",
    unit: "days",
    sorts: true,
    cell: (row) =>
      row.days_to_earnings === null ? (
        <Missing why="no report is known" />
      ) : (
        <span title={TIMING[row.earnings_timing ?? ""] ?? "its time of day is not known"}>
          {number(row.days_to_earnings)}
          {row.earnings_timing === "before_open" ? " ◂" : row.earnings_timing === "after_close" ? " ▸" : ""}
        </span>
      ),
  },
  {
    id: "short_pct",
    label: "Short",
    title: "Shares sold short in percent of the float, and the change since the settlement before in percent",
    unit: "%",
    sorts: true,
    cell: (row) =>
      row.short_pct === null ? (
        <Missing why="no short interest is published" />
      ) : (
        <>
          {number(row.short_pct, 1)} <small>{signed(row.short_change, 0)}</small>
        </>
      ),
  },
  {
    id: "days_to_ex_dividend",
    label: "Ex-div",
    title: "Calendar days to the next declared ex-date, and the amount",
    unit: "days",
    sorts: true,
    cell: (row) =>
      row.days_to_ex_dividend === null ? (
        <Missing why="no dividend is declared" />
      ) : (
        <>
          {number(row.days_to_ex_dividend)} <small>{number(row.next_dividend, 2)}</small>
        </>
      ),
  },
];

export const printColumns = (link: Link, session: string): Column<PrintRow>[] => [
  {
    id: "at",
    label: "At",
    title: `When its first print came, at the exchange, on ${date(session, true)}`,
    cell: (row) => clock(row.at),
  },
  { id: "symbol", label: "Symbol", title: "The name", text: true, cell: (row) => link(row.symbol) },
  { id: "printed", label: "Price", title: "Weighted by shares", unit: "$", cell: (row) => number(row.price, 2) },
  { id: "shares", label: "Shares", title: "Of all its prints", cell: (row) => number(row.shares) },
  { id: "notional", label: "Notional", title: "Price times shares", unit: "$", cell: (row) => compact(row.notional) },
  {
    id: "prints",
    label: "Prints",
    title: "Prints at one price within a second are one burst and counted once",
    cell: (row) => (row.prints > 1 ? <b title="a burst">{number(row.prints)}</b> : "1"),
  },
  {
    id: "of_volume",
    label: "Of volume",
    title: "In percent of the session's volume so far",
    unit: "%",
    cell: (row) => (row.share_pct === null ? <Missing why="no volume is known" /> : number(row.share_pct, 2)),
  },
  {
    id: "away",
    label: "From now",
    title: "From the price now, in percent and in one-day expected moves",
    unit: "σ",
    cell: (row) => (
      <>
        <small>{signed(row.away_pct, 2)} %</small> {signed(row.away_moves, 2)}
      </>
    ),
  },
  { id: "part", label: "Part", title: "Part of the day", text: true, cell: (row) => row.part },
  {
    id: "told",
    label: "Told as",
    title: "A print at an average price, at one that follows from something else, or told late makes no level",
    text: true,
    cell: (row) => (row.conditions.length ? `${row.conditions.join(", ")}: no level` : ""),
  },
];
