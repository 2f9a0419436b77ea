import type { Schemas } from "@/shared/api/client";
import { clock, compact, date, number, signed, signedCompact } from "@/shared/format";
import { oneAddress } from "@/shared/structures/one";
import { Missing } from "@/shared/ui/Missing";
import { SymbolLink } from "@/shared/ui/SymbolLink";
import { ContractName, leans } from "@/shared/ui/ticketWords";
import type { Column } from "@/shared/ui/WalkTable";
import { FlowBar } from "./FlowBar";

export type NameRow = Schemas["TapeName"];
export type TicketRow = Schemas["TicketLine"];
export type ContractRow = Schemas["TapeContract"];

type Link = (symbol: string) => React.ReactNode;

const first = (sessions: number, ever: boolean) =>
  ever ? <span title="The name had none like it in all sessions held">≥ {number(sessions)}</span> : number(sessions);

const gone = (since: number | null) =>
  since === null ? (
    <Missing why="it leans nowhere, or no move is priced" />
  ) : (
    <span className={since >= 0.8 ? "gone" : undefined}>{signed(since, 2)}</span>
  );

export const nameColumns = (link: Link): Column<NameRow>[] => [
  { id: "symbol", label: "Symbol", title: "The name", sorts: true, text: true, cell: (row) => link(row.symbol) },
  { id: "company", label: "Company", title: "What it is called", text: true, cell: (row) => row.company },
  {
    id: "flow",
    label: "Puts | calls",
    title:
      "How the premium is split: puts to the left, calls to the right; high at the ask, middle between, low at the bid",
    cell: (row) => <FlowBar call={row.call} put={row.put} />,
  },
  {
    id: "premium",
    label: "Premium",
    title: "Of the surviving tickets",
    unit: "$",
    sorts: true,
    cell: (row) => compact(row.premium),
  },
  {
    id: "net",
    label: "Leans",
    title: "Premium that leans up less premium that leans down: a fact about trades, not about their owners",
    unit: "$",
    sorts: true,
    cell: (row) => signedCompact(Math.round(row.net)),
  },
  { id: "tickets", label: "Tickets", title: "How many survive", sorts: true, cell: (row) => number(row.tickets) },
  {
    id: "strongest",
    label: "Strongest contract",
    title: "The one with most of the premium, and how much; sorted by that",
    sorts: true,
    text: true,
    cell: (row) => (
      <>
        {row.strongest} <small>{compact(row.strongest_premium)}</small>
      </>
    ),
  },
  {
    id: "repeated",
    label: "Repeated",
    title: "The most tickets in one contract on one side",
    sorts: true,
    cell: (row) => number(row.repeated),
  },
  {
    id: "first_in",
    label: "First in",
    title: "Sessions since the name last had a ticket as large in that right; of the newest one among these",
    unit: "sessions",
    sorts: true,
    cell: (row) => first(row.first_in, row.first_ever),
  },
  {
    id: "since",
    label: "Since",
    title: "How far price has gone since the largest ticket, in one-day expected moves and in its direction",
    unit: "σ",
    sorts: true,
    cell: (row) => gone(row.since),
  },
];

export const ticketColumns = (link: Link, many: boolean, onPackage: (address: string) => void): Column<TicketRow>[] => [
  {
    id: "at",
    label: "Time",
    title: "Of its first fill, at the exchange",
    text: true,
    cell: (t) => `${many ? `${date(t.session)} ` : ""}${clock(t.at)}`,
  },
  { id: "symbol", label: "Symbol", title: "The name", text: true, cell: (t) => link(t.symbol) },
  {
    id: "contract",
    label: "Contract",
    title: "Strike, right and expiration",
    text: true,
    cell: (t) => <ContractName contract={t} />,
  },
  { id: "days", label: "Days", title: "To its expiration", cell: (t) => number(t.days) },
  { id: "side", label: "Side", title: "At the ask, at the bid, or nobody knows", text: true, cell: (t) => t.side },
  { id: "contracts", label: "Contracts", title: "Of all its fills", cell: (t) => compact(t.contracts) },
  { id: "price", label: "Paid", title: "For one option", unit: "$", cell: (t) => number(t.price, 2) },
  {
    id: "premium",
    label: "Premium",
    title: "Price times contracts times shares a contract",
    unit: "$",
    cell: (t) => compact(t.premium),
  },
  { id: "kind", label: "Kind", title: "Sweep, split, block or single", text: true, cell: (t) => t.kind },
  {
    id: "opens",
    label: "Opens",
    title: "Whether it opened a position, and how sure that is",
    text: true,
    cell: (t) => t.opening,
  },
  {
    id: "lean",
    label: "Leans",
    title: "A fact about the trade, not about its owner",
    text: true,
    cell: (t) => leans(t.lean),
  },
  {
    id: "away",
    label: "Away",
    title: "Strike over the price of the stock then, above zero out of the money",
    unit: "%",
    cell: (t) => signed(t.away_pct, 1),
  },
  {
    id: "since",
    label: "Since",
    title: "How far price has gone since, in one-day expected moves and in its direction",
    unit: "σ",
    cell: (t) => gone(t.since),
  },
  {
    id: "first_in",
    label: "First in",
    title: "Sessions since the name last had one like it",
    cell: (t) => first(t.first_in, t.first_ever),
  },
  { id: "unusual", label: "Unusual", title: "The five parts added up, 5 at most", cell: (t) => number(t.unusual, 2) },
  {
    id: "told",
    label: "Part of",
    title: "The package that it is a leg of, or the roll that it is a side of",
    text: true,
    cell: (t) =>
      t.package_legs && t.package ? (
        <SymbolLink
          symbol={t.package}
          to={oneAddress(`${t.symbol} ${t.package_legs}`)}
          onOpen={() => onPackage(oneAddress(`${t.symbol} ${t.package_legs}`))}
        />
      ) : (
        (t.roll ?? t.package ?? "")
      ),
  },
];

export const contractColumns = (link: Link): Column<ContractRow>[] => [
  { id: "symbol", label: "Symbol", title: "The name", text: true, cell: (c) => link(c.symbol) },
  {
    id: "contract",
    label: "Contract",
    title: "Strike, right and expiration",
    text: true,
    cell: (c) => <ContractName contract={c} />,
  },
  {
    id: "premium",
    label: "Premium",
    title: "Of the surviving tickets",
    unit: "$",
    sorts: true,
    cell: (c) => compact(c.premium),
  },
  { id: "tickets", label: "Tickets", title: "How many survive", sorts: true, cell: (c) => number(c.tickets) },
  { id: "contracts", label: "Contracts", title: "Of the surviving tickets", cell: (c) => compact(c.contracts) },
  {
    id: "volume",
    label: "Vol",
    title: "All that traded of it in the sessions shown",
    sorts: true,
    cell: (c) => compact(c.volume),
  },
  {
    id: "open_interest",
    label: "OI",
    title: "Open in the morning of the first session shown",
    sorts: true,
    cell: (c) => compact(c.open_interest),
  },
  {
    id: "opened",
    label: "Opened",
    title: "What open interest rose by until the morning after",
    sorts: true,
    cell: (c) =>
      c.opened === null ? (
        <Missing why="known the next morning" />
      ) : (
        <>
          {signedCompact(c.opened)}
          {c.small_base && <abbr title="From a base under 100 contracts: percent would mislead"> small</abbr>}
        </>
      ),
  },
  {
    id: "ask_share",
    label: "Ask",
    title: "Contracts on the ask side over all whose side is known, of the surviving tickets",
    unit: "%",
    sorts: true,
    cell: (c) => (c.ask_share_pct === null ? <Missing why="nobody knows the side" /> : number(c.ask_share_pct)),
  },
  {
    id: "quiet",
    label: "First since",
    title: "Sessions since it last traded before those shown",
    unit: "sessions",
    sorts: true,
    cell: (c) => (c.quiet === null ? `> ${c.quiet_at_least}` : number(c.quiet)),
  },
];
