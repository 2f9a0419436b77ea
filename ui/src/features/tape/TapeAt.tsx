import { useEffect, useMemo, useState } from "react";
import { useSubject } from "@/frame/subject";
import { asOfDay } from "@/shared/address";
import type { FileFormat, Schemas } from "@/shared/api/client";
import { useByKey, useScreens, useTicketMetrics, useTickets } from "@/shared/api/queries";
import { compact, count, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { useNavigate } from "@/shared/route";
import { Asking } from "@/shared/stack/Asking";
import { answerTo, type Held, useHeld } from "@/shared/stack/held";
import { Narrowest } from "@/shared/stack/Stack";
import { Replied, type StackAddress, StackFrame, useAnswered, useStackPage } from "@/shared/stack/StackPage";
import { type View, writeScreen } from "@/shared/stack/state";
import { TICKETS } from "@/shared/stack/things";
import { later } from "@/shared/ui/later";
import { MoreRows } from "@/shared/ui/MoreRows";
import { Empty, NotKept } from "@/shared/ui/States";
import { SymbolLink } from "@/shared/ui/SymbolLink";
import { type Column, WalkTable } from "@/shared/ui/WalkTable";
import { contractColumns, nameColumns, type TicketRow, ticketColumns } from "./columns";
import { Fills } from "./Fills";
import { FIRST } from "./first";
import { NameFigure } from "./NameFigure";
import { TapeTools, Until } from "./TapeTools";
import { type Chosen, ThroughTheDay } from "./ThroughTheDay";

const Evidence = later(() => import("@/shared/stack/Evidence").then((part) => part.Evidence));

const PAGE = 200;
const MOST = 1_200;
type TapeView = "names" | "tickets" | "contracts" | "day";
const VIEWS: TapeView[] = ["names", "tickets", "contracts", "day"];

/** Tickets that a stack of rules leaves. All of it stands in the address. */
export function TapeAt(address: StackAddress) {
  const { base, params, write } = address;
  const metrics = useTicketMetrics();
  const metricMap = useByKey(metrics);
  const screens = useScreens().data;
  const { setSubject } = useSubject();
  const navigate = useNavigate();
  const [rows, setRows] = useState(PAGE);

  const page = useStackPage(TICKETS, FIRST, address);
  const { asOf, focused, walk, link, why, kept, inTray, go } = page;
  const { screen, current, change, aim } = page.stack;
  const view: TapeView = VIEWS.find((known) => known === screen.view) ?? "names";
  const until = /^\d\d:\d\d$/.test(params.get("until") ?? "") ? params.get("until") : null;
  const least = Math.max(1, Math.min(100_000, Math.trunc(Number(params.get("least") ?? 1)) || 1));
  const quarter = useMemo(() => readQuarter(params.get("quarter")), [params]);
  const sort = screen.sort[0] ?? "-premium";
  const asked = useMemo(
    () => ({
      stack: { universe: current.universe, rules: current.rules, any_groups: current.anyGroups },
      sessions: current.sessions,
      as_of: asOf,
      until,
      quarter,
    }),
    [current, asOf, until, quarter],
  );
  const request = useMemo(
    () => ({ ...asked, view, sort, least, first: 0, count: rows, aim }),
    [asked, view, sort, least, rows, aim],
  );
  const answered = useAnswered(page, useTickets(request));
  const { reply, asked: told, past } = answered;
  const shown = told?.view ?? view;
  const list = useMemo(() => (reply && shown !== "day" && reply[shown]) || [], [reply, shown]) as AnyRow[];
  const held = useHeld(told && reply ? answerTo({ ...told, aim: null }, reply) : null, list, KEYS[shown]);
  const symbol = symbolOf(focused) ?? reply?.symbols[0] ?? null;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the reason is made anew when the focused row or the address changes
  useEffect(() => {
    if (symbol)
      setSubject({
        symbol,
        why: { ...why, values: {} },
        asOf: past,
        until,
        figure: <NameFigure request={{ ...asked, symbol }} />,
      });
  }, [symbol, link, asked, past, until, setSubject]);

  const open = (name: string) => go(`/dossier/${name}?view=tape`, focused ?? name);
  const symbolLink = (name: string) => (
    <SymbolLink symbol={name} to={asOfDay(`/dossier/${name}?view=tape`, asOf)} onOpen={open} />
  );
  const toChain = (name: string, contract: { strike: number; expiration: string }) => {
    const query = new URLSearchParams({
      view: "chain",
      expiration: contract.expiration,
      strike: String(contract.strike),
    });
    go(`/dossier/${name}?${query}`, focused ?? name);
  };
  const copy = () => page.copy(reply?.symbols ?? []);
  const evidence = params.get("evidence") === "1";
  const toggleEvidence = () => write({ evidence: evidence ? null : "1" }, true);
  const setView = (next: View) => {
    change({ view: next });
    if (evidence) write({ evidence: null });
  };
  useKeys({
    c: copy,
    "1": () => setView("names"),
    "2": () => setView("tickets"),
    "3": () => setView("contracts"),
    "4": () => setView("day"),
    "5": toggleEvidence,
  });
  function takeOut(format: FileFormat) {
    const what = view === "day" ? "tickets" : view;
    page.takeOut("/api/tape/export", { ...asked, format, name: base.draft.name || "Tape", view: what, sort, least });
  }

  const asking = base.key === null && screen.rules.every((r) => /^[a-z_0-9]+$/.test(r.text));
  const shared = {
    sort: told?.sort ?? sort,
    onSort: (next: string) => write(writeScreen({ ...screen, sort: [next] }, base.screen)),
    focused,
    gridRef: page.grid,
  };
  const table = <Row extends AnyRow>(
    label: string,
    keyOf: (row: Row) => string,
    columns: Column<Row>[],
    more: Partial<Parameters<typeof WalkTable<Row>>[0]>,
  ) => (
    <WalkTable
      label={label}
      held={held as Held<Row>}
      keyOf={keyOf}
      columns={columns}
      inTray={(row) => inTray.has((row as { symbol: string }).symbol)}
      onFocus={(row) => walk(keyOf(row))}
      onOpen={(row) => open((row as { symbol: string }).symbol)}
      {...shared}
      {...more}
    >
      <MoreRows shown={list.length} total={reply?.total ?? 0} step={2 * PAGE} most={MOST} onMore={setRows} />
    </WalkTable>
  );
  return (
    <StackFrame
      page={page}
      answered={answered}
      names={metrics}
      metrics={metricMap}
      className="tape-page"
      survivors={
        reply && (
          <>
            <b>{count(reply.survivors, "ticket survives", "tickets survive")}</b> of {number(reply.universe)}, $
            {compact(reply.premium)}
          </>
        )
      }
      beside={
        <Until
          until={until}
          sessions={current.sessions}
          onWrite={write}
          onSessions={(sessions) => change({ sessions })}
        />
      }
      held={view === "day" || evidence ? null : held}
      tools={
        <TapeTools
          view={view}
          least={least}
          fresh={answered.fresh.length}
          all={reply?.symbols.length ?? 0}
          evidence={evidence}
          onView={setView}
          onEvidence={toggleEvidence}
          onLeast={(next) => write({ least: next > 1 ? String(next) : null })}
          onFile={takeOut}
          onCopy={copy}
          onKeep={() => page.keep(answered.fresh)}
        />
      }
    >
      {asking && (
        <Asking
          starters={screens?.starters.filter((starter) => starter.body.table === "tickets") ?? []}
          onOpen={(key) => kept.open(`s-${key}`)}
          onAll={kept.choose}
        />
      )}
      {quarter && view !== "day" && reply && (
        <p className="quarter-chosen">
          {count(reply.shown, "ticket")} of the quarter of an hour that was chosen.{" "}
          <button type="button" className="quiet" onClick={() => write({ quarter: null })}>
            all of them again
          </button>
        </p>
      )}
      <Replied answered={answered} ready={told?.view === view} what="the tape">
        {() =>
          !reply ? null : evidence ? (
            <Evidence things={TICKETS} screen={current} params={params} onWrite={write} />
          ) : reply.sessions.length === 0 || reply.universe === 0 ? (
            <Empty>
              {reply.sessions.includes(reply.session) ? (
                <p>No name of this universe traded options then.</p>
              ) : (
                <NotKept what="Option trades" kind="option_trades">
                  No option trades of this session are kept: choose a later one.
                </NotKept>
              )}
            </Empty>
          ) : reply.survivors === 0 ? (
            <Empty>
              <p>No ticket survives these rules.</p>
              <Narrowest reports={reply.rules} things={TICKETS} />
            </Empty>
          ) : view === "names" ? (
            table<TapeName>("Names with surviving tickets", KEYS.names, nameColumns(symbolLink), {})
          ) : view === "contracts" ? (
            table<TapeContract>("Contracts with surviving tickets", KEYS.contracts, contractColumns(symbolLink), {
              onOpen: (row) => toChain(row.symbol, row),
            })
          ) : view === "tickets" ? (
            table<TicketRow>(
              "Surviving tickets",
              keyOfTicket,
              ticketColumns(symbolLink, current.sessions > 1, (address) => navigate(asOfDay(address, asOf))),
              {
                sort: "",
                below: (row) =>
                  keyOfTicket(row) === params.get("unfolded") ? <Fills ticket={row} asOf={asOf} until={until} /> : null,
                onOpen: (row) =>
                  write({ unfolded: params.get("unfolded") === keyOfTicket(row) ? null : keyOfTicket(row) }),
              },
            )
          ) : (
            <ThroughTheDay
              quarters={reply.quarters ?? []}
              chosen={quarter}
              onChoose={(next) => write({ quarter: writeQuarter(next) })}
            />
          )
        }
      </Replied>
      {reply && reply.doubts.length + reply.paired.length > 0 && (
        <p className="doubts muted">
          {reply.paired.length > 0 && `In all tickets of these sessions ${reply.paired.join(" and ")}. `}
          Of the fills {reply.doubts.join(", ") || "all are as they should be"}
          {reply.left_out > 0 && `; ${number(reply.left_out)} of them do not count`}. A trade’s lean is no view of its
          owner.
        </p>
      )}
    </StackFrame>
  );
}

const keyOfTicket = (t: TicketRow) => `${t.symbol} ${t.session} ${t.place}`;

type TapeName = Schemas["TapeName"];
type TapeContract = Schemas["TapeContract"];
type AnyRow = TapeName | TapeContract | TicketRow;
/** What a row is told from others by, whichever way the tape is looked at. */
const KEYS = {
  names: (row: { symbol: string }) => row.symbol,
  contracts: (row: AnyRow) => {
    const { symbol, expiration, strike, is_call } = row as TapeContract;
    return `${symbol} ${expiration} ${strike} ${is_call}`;
  },
  tickets: (row: AnyRow) => keyOfTicket(row as TicketRow),
  day: (row: { symbol: string }) => row.symbol,
};

/** The name of a row, whichever table it is of. */
const symbolOf = (key: string | null) => key?.split(" ")[0] ?? null;

function readQuarter(text: string | null): Chosen | null {
  const match = /^(\d{4}-\d\d-\d\d) (\d{1,2})$/.exec(text ?? "");
  return match && Number(match[2]) < 26 ? { session: match[1] as string, place: Number(match[2]) } : null;
}

const writeQuarter = (quarter: Chosen | null) => (quarter ? `${quarter.session} ${quarter.place}` : null);
