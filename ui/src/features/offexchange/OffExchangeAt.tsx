import { useEffect, useMemo, useState } from "react";
import { useSubject } from "@/frame/subject";
import { asOfDay } from "@/shared/address";
import type { FileFormat, Schemas } from "@/shared/api/client";
import { useMetricMap, useMetrics, usePrints, useShelfRecord } from "@/shared/api/queries";
import { compact, count, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { answerTo, type Held, useHeld } from "@/shared/stack/held";
import { Narrowest } from "@/shared/stack/Stack";
import { Replied, type StackAddress, StackFrame, useAnswered, useStackPage } from "@/shared/stack/StackPage";
import { PRINTED } from "@/shared/stack/things";
import { MoreRows } from "@/shared/ui/MoreRows";
import { Empty, Failed, Loading, NotKept } from "@/shared/ui/States";
import { SymbolLink } from "@/shared/ui/SymbolLink";
import { type Column, WalkTable } from "@/shared/ui/WalkTable";
import { nameColumns, printColumns } from "./columns";
import { FIRST } from "./first";
import { reachOf } from "./LevelDots";
import { LevelsFigure } from "./LevelsFigure";
import { OffExchangeTools, PositionSwitches, WindowTools } from "./OffExchangeTools";
import { ShelfRecord } from "./ShelfRecord";
import { readPositions, readWindow } from "./window";

const VIEWS = ["names", "prints", "record"] as const;
const PAGE = 80;
const MOST = 1_200;
const STANDS: Record<string, string> = {
  "above all": "Above every level",
  within: "Between its levels",
  "below all": "Below every level",
};

/** Names that a stack of rules leaves, where they stand among large prints. All of it stands in the address. */
export function OffExchangeAt(address: StackAddress) {
  const { base, params, write } = address;
  const metrics = useMetrics();
  const metricMap = useMetricMap();
  const { setSubject } = useSubject();
  const [rows, setRows] = useState(PAGE);

  const page = useStackPage(PRINTED, FIRST, address);
  const { asOf, focused, walk, link, why, inTray } = page;
  const { current, aim } = page.stack;
  const window = useMemo(() => readWindow(params), [params]);
  const positions = useMemo(() => readPositions(params), [params]);
  const show = VIEWS.find((one) => one === params.get("show")) ?? "names";
  const prints = show === "prints";
  const sort = params.get("by") ?? "-largest";
  const asked = useMemo(
    () => ({
      stack: { universe: current.universe, rules: current.rules, any_groups: current.anyGroups },
      window,
      positions,
      as_of: asOf,
    }),
    [current, window, positions, asOf],
  );
  const record = useShelfRecord(asked, show === "record");
  const view = prints ? ("prints" as const) : ("names" as const);
  const request = useMemo(() => ({ ...asked, view, sort, first: 0, count: rows, aim }), [asked, view, sort, rows, aim]);
  const answered = useAnswered(page, usePrints(request));
  const { reply, asked: told, past } = answered;
  const shown = told?.view ?? view;
  const list = useMemo(
    () => (reply && (shown === "prints" ? reply.prints : reply.names)) || [],
    [reply, shown],
  ) as AnyRow[];
  const held = useHeld(told && reply ? answerTo({ ...told, aim: null }, reply) : null, list, KEYS[shown]);
  const names = reply?.names ?? [];
  const reach = useMemo(() => reachOf(reply?.names ?? []), [reply]);
  const most = Math.max(1, ...names.flatMap((row) => row.levels.map((level) => level.notional)));

  const symbol = focused?.split(" ")[0] ?? reply?.symbols[0] ?? null;
  const row = names.find((one) => one.symbol === symbol) ?? null;
  const size = `levels of ${window.unit === "$" ? "$" : ""}${compact(window.least)}${window.unit === "$" ? "" : " shares"}`;
  const words = [why.words, row && `${row.position} ${size}`].filter(Boolean).join(" · ");
  // biome-ignore lint/correctness/useExhaustiveDependencies: the reason is made anew when the focused row or the address changes
  useEffect(() => {
    if (symbol)
      setSubject({
        symbol,
        why: { ...why, words, values: {} },
        asOf: past,
        until: null,
        figure: row && <LevelsFigure row={row} words={STANDS[row.position] ?? ""} />,
      });
  }, [symbol, link, row, past, words, setSubject]);

  const target = (name: string) => {
    const query = new URLSearchParams({ view: "prints" });
    for (const key of ["n", "from", "to"]) {
      const value = params.get(key);
      if (value !== null) query.set(key, value);
    }
    return `/dossier/${name}?${query}`;
  };
  const open = (name: string) => page.go(target(name), focused ?? name);
  const symbolLink = (name: string) => <SymbolLink symbol={name} to={asOfDay(target(name), asOf)} onOpen={open} />;
  const copy = () => page.copy(reply?.symbols ?? []);
  const showView = (next: (typeof VIEWS)[number]) => write({ show: next === "names" ? null : next, at: null }, true);
  useKeys({
    c: copy,
    ...Object.fromEntries(VIEWS.map((one, i) => [String(i + 1), () => showView(one)])),
  });
  const takeOut = (format: FileFormat) =>
    page.takeOut("/api/off-exchange/export", { ...asked, format, name: base.draft.name || "Off-exchange", view, sort });

  const table = <Row extends AnyRow>(
    label: string,
    keyOf: (one: Row) => string,
    columns: Column<Row>[],
    sorted: string,
  ) => (
    <WalkTable
      label={label}
      held={held as Held<Row>}
      keyOf={keyOf}
      columns={columns}
      sort={sorted}
      onSort={(next) => write({ by: next === "-largest" ? null : next })}
      focused={focused}
      inTray={(one) => inTray.has(one.symbol)}
      onFocus={(one) => walk(keyOf(one))}
      onOpen={(one) => open(one.symbol)}
      gridRef={page.grid}
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
      className="tape-page off-exchange"
      survivors={
        reply && (
          <>
            <b>{count(reply.shown, "name")}</b>
            {reply.shown < reply.survivors && ` of ${number(reply.survivors)} that survive`}
          </>
        )
      }
      beside={
        <WindowTools
          window={window}
          told={
            reply?.first_session && reply.last_session ? { first: reply.first_session, last: reply.last_session } : null
          }
          onWrite={write}
        />
      }
      held={show === "record" ? null : held}
      tools={
        <>
          <OffExchangeTools
            show={show}
            session={reply?.session ?? null}
            fresh={answered.fresh.length}
            all={reply?.symbols.length ?? 0}
            onShow={showView}
            onFile={takeOut}
            onCopy={copy}
            onKeep={() => page.keep(answered.fresh)}
          />
          {reply && (
            <PositionSwitches
              counts={reply.positions}
              chosen={positions}
              onChoose={(next) => write({ stand: next.length ? next.join(",") : null }, true)}
            />
          )}
        </>
      }
    >
      <Replied answered={answered} ready={told?.view === view} what="the prints">
        {() =>
          !reply ? null : reply.first_session === null ? (
            <Empty>
              <NotKept what="Off-exchange prints" kind="prints">
                No off-exchange prints are kept up to this session: choose a later one.
              </NotKept>
            </Empty>
          ) : reply.survivors === 0 ? (
            <Empty>
              <p>No name survives these rules.</p>
              <Narrowest reports={reply.rules} things={PRINTED} />
            </Empty>
          ) : show === "record" ? (
            record.data ? (
              <ShelfRecord data={record.data} stale={record.isPlaceholderData} />
            ) : record.failureReason ? (
              <Failed error={record.failureReason} />
            ) : (
              <Loading what="the record" />
            )
          ) : reply.total === 0 ? (
            <Empty>
              <p>{prints ? "No print of this session is that large." : "No name stands there."}</p>
            </Empty>
          ) : prints ? (
            table<PrintRow>("Prints of the session", KEYS.prints, printColumns(symbolLink, reply.session), "")
          ) : (
            table<NameRow>(
              "Names among large prints",
              KEYS.names,
              nameColumns(symbolLink, reach, most),
              told?.sort ?? sort,
            )
          )
        }
      </Replied>
      {reply && (
        <p className="doubts muted">
          A print says what changed hands at which price. It does not say who bought: there is always one of each.
          {reply.doubts.length > 0 && ` Of the prints ${reply.doubts.join(", ")}; they do not count.`}
        </p>
      )}
    </StackFrame>
  );
}

type NameRow = Schemas["PrintsName"];
type PrintRow = Schemas["PrintLine"];
type AnyRow = NameRow | PrintRow;
/** What a row is told from others by. */
const KEYS = {
  names: (one: { symbol: string }) => one.symbol,
  prints: (row: AnyRow) => {
    const { symbol, at, price } = row as PrintRow;
    return `${symbol} ${at} ${price}`;
  },
};
