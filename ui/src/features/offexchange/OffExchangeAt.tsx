import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { useSubject } from "@/frame/subject";
import { asOfDay } from "@/shared/address";
import { ApiError, type FileFormat } from "@/shared/api/client";
import {
  useBaskets,
  useChangeTray,
  useMarket,
  useMetricMap,
  useMetrics,
  usePrints,
  useShelfRecord,
  useTray,
} from "@/shared/api/queries";
import { compact, count, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { soon, useRowsBusy, whenRows } from "@/shared/settled";
import type { Base } from "@/shared/stack/base";
import { Narrowest, Stack, universeWords } from "@/shared/stack/Stack";
import { reasonFor } from "@/shared/stack/state";
import { PRINTED } from "@/shared/stack/things";
import { useKeptScreen } from "@/shared/stack/useKeptScreen";
import { useStack } from "@/shared/stack/useStack";
import { useWalk } from "@/shared/stack/walk";
import { AsOf } from "@/shared/ui/AsOf";
import { MoreRows } from "@/shared/ui/MoreRows";
import { Empty, Failed, Loading, NotKept } from "@/shared/ui/States";
import { SymbolLink } from "@/shared/ui/SymbolLink";
import { useSaid } from "@/shared/ui/useSaid";
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
export function OffExchangeAt({
  base,
  params,
  write,
}: {
  base: Base;
  params: URLSearchParams;
  write: (changes: Record<string, string | null>, step?: boolean) => void;
}) {
  const metrics = useMetrics();
  const metricMap = useMetricMap();
  const market = useMarket().data;
  const baskets = useBaskets().data;
  const tray = useTray();
  const changeTray = useChangeTray();
  const { setSubject } = useSubject();
  const navigate = useNavigate();
  const grid = useRef<HTMLDivElement>(null);
  const { said, say, copy: copySymbols, takeOut: writeFile } = useSaid();
  const [rows, setRows] = useState(PAGE);

  const stack = useStack(base, params, write);
  const { screen, current, changed, aim } = stack;
  const asOf = params.get("asof");
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
  const answer = usePrints(request);
  const reply = answer.data?.reply;
  const told = answer.data?.request;
  const reports = stack.reportsOf(told?.stack.rules ?? [], reply?.rules);
  const names = reply?.names ?? [];
  const reach = useMemo(() => reachOf(reply?.names ?? []), [reply]);
  const most = Math.max(1, ...names.flatMap((row) => row.levels.map((level) => level.notional)));

  const { focused, walk, leave } = useWalk(params.get("at"), write);
  const symbol = focused?.split(" ")[0] ?? reply?.symbols[0] ?? null;
  const row = names.find((one) => one.symbol === symbol) ?? null;
  const link = `/off-exchange?${params}`;
  const size = `levels of ${window.unit === "$" ? "$" : ""}${compact(window.least)}${window.unit === "$" ? "" : " shares"}`;
  const why = reasonFor(screen, PRINTED, base.draft.name || null, universeWords(screen.universe, baskets), link);
  const words = [why.words, row && `${row.position} ${size}`].filter(Boolean).join(" · ");
  const past = reply && !reply.newest ? reply.session : null;
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

  const kept = useKeptScreen({ things: PRINTED, base, first: FIRST, screen, changed, link, write, onSaid: say });
  const target = (name: string) => {
    const query = new URLSearchParams({ view: "prints" });
    for (const key of ["n", "from", "to"]) {
      const value = params.get(key);
      if (value !== null) query.set(key, value);
    }
    return asOfDay(`/dossier/${name}?${query}`, asOf);
  };
  function open(name: string) {
    leave(focused ?? name);
    soon(() => navigate(target(name)));
  }
  const symbolLink = (name: string) => <SymbolLink symbol={name} to={target(name)} onOpen={open} />;
  const inTray = useMemo(() => new Set(tray.data?.items.map((item) => item.symbol)), [tray.data]);
  const fresh = reply?.symbols.filter((name) => !inTray.has(name)) ?? [];
  const copy = () => copySymbols(reply?.symbols ?? []);
  const showView = (next: (typeof VIEWS)[number]) => write({ show: next === "names" ? null : next, at: null }, true);
  useKeys({
    r: () => whenRows(() => grid.current?.querySelector<HTMLElement>("[tabindex='0']")?.focus()),
    c: copy,
    o: kept.choose,
    ...Object.fromEntries(VIEWS.map((one, i) => [String(i + 1), () => showView(one)])),
  });
  const takeOut = (format: FileFormat) =>
    writeFile("/api/off-exchange/export", { ...asked, format, name: base.draft.name || "Off-exchange", view, sort });

  const failed = answer.failureReason;
  // What is not answered because the server is away is said beside the rows, which stay as they are.
  const waiting = !failed && (!reply || answer.isPlaceholderData);
  useRowsBusy(waiting);
  const refused = failed instanceof ApiError && !failed.passing ? failed : null;
  const table = <Row extends { symbol: string }>(
    label: string,
    list: Row[],
    keyOf: (one: Row) => string,
    columns: Column<Row>[],
    sorted: string,
  ) => (
    <WalkTable
      label={label}
      rows={list}
      keyOf={keyOf}
      columns={columns}
      sort={sorted}
      onSort={(next) => write({ by: next === "-largest" ? null : next })}
      focused={focused}
      inTray={(one) => inTray.has(one.symbol)}
      onFocus={(one) => walk(keyOf(one))}
      onOpen={(one) => open(one.symbol)}
      gridRef={grid}
    >
      <MoreRows shown={list.length} total={reply?.total ?? 0} step={2 * PAGE} most={MOST} onMore={setRows} />
    </WalkTable>
  );
  return (
    <div className="screen tape-page off-exchange">
      <Stack
        things={PRINTED}
        stack={stack}
        reports={reports}
        universe={reply?.universe ?? null}
        names={metrics}
        metrics={metricMap}
      >
        {kept.head}
      </Stack>
      <section className="results" aria-label="Results" aria-busy={waiting}>
        <header>
          <h2 aria-live="polite">
            {reply ? (
              <>
                <b>{count(reply.shown, "name")}</b>
                {reply.shown < reply.survivors && ` of ${number(reply.survivors)} that survive`}
                {answer.isPlaceholderData && failed && ", before your last change"}
              </>
            ) : (
              " "
            )}
          </h2>
          <AsOf session={reply?.session ?? market?.sessions.at(-1) ?? null} onWrite={write} />
          <WindowTools
            window={window}
            told={
              reply?.first_session && reply.last_session
                ? { first: reply.first_session, last: reply.last_session }
                : null
            }
            onWrite={write}
          />
          <span className="said" role="status">
            {said}
          </span>
          <OffExchangeTools
            show={show}
            session={reply?.session ?? null}
            fresh={fresh.length}
            all={reply?.symbols.length ?? 0}
            onShow={showView}
            onFile={takeOut}
            onCopy={copy}
            onKeep={() => changeTray.mutate({ kind: "add", symbols: fresh, why: { ...why, values: {} } })}
          />
          {reply && (
            <PositionSwitches
              counts={reply.positions}
              chosen={positions}
              onChoose={(next) => write({ stand: next.length ? next.join(",") : null }, true)}
            />
          )}
        </header>
        {refused ? (
          <Failed error={refused} />
        ) : !reply || told?.view !== view ? (
          failed ? (
            <Failed error={failed} />
          ) : (
            <Loading what="the prints" />
          )
        ) : reply.first_session === null ? (
          <Empty>
            <NotKept what="Off-exchange prints">
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
          table(
            "Prints of the session",
            reply.prints ?? [],
            (one) => `${one.symbol} ${one.at} ${one.price}`,
            printColumns(symbolLink, reply.session),
            "",
          )
        ) : (
          table(
            "Names among large prints",
            names,
            (one) => one.symbol,
            nameColumns(symbolLink, reach, most),
            told.sort ?? sort,
          )
        )}
        {reply && (
          <p className="doubts muted">
            A print says what changed hands at which price. It does not say who bought: there is always one of each.
            {reply.doubts.length > 0 && ` Of the prints ${reply.doubts.join(", ")}; they do not count.`}
          </p>
        )}
      </section>
      {kept.dialogs}
    </div>
  );
}
