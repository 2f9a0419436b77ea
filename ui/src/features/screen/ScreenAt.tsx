import { lazy, Suspense, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { tellResults } from "@/frame/results";
import { useSubject } from "@/frame/subject";
import { asOfDay } from "@/shared/address";
import { ApiError, api, type FileFormat, type ScreenReply, type Why } from "@/shared/api/client";
import {
  useBaskets,
  useChangeTray,
  useHandbook,
  useMarket,
  useMetricMap,
  useMetrics,
  useScreen,
  useScreenPages,
  useScreens,
  useTray,
} from "@/shared/api/queries";
import { count, date, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { soon, useRowsBusy, whenRows } from "@/shared/settled";
import { Asking } from "@/shared/stack/Asking";
import type { Base } from "@/shared/stack/base";
import { type Look, useLook } from "@/shared/stack/kept";
import { Narrowest, Stack, universeWords } from "@/shared/stack/Stack";
import { measuredBy, spokenOf } from "@/shared/stack/spoken";
import { reasonFor, type View, writeScreen } from "@/shared/stack/state";
import { NAMES } from "@/shared/stack/things";
import { useKeptScreen } from "@/shared/stack/useKeptScreen";
import { useStack } from "@/shared/stack/useStack";
import { useWalk } from "@/shared/stack/walk";
import { AsOf } from "@/shared/ui/AsOf";
import { later } from "@/shared/ui/later";
import { Empty, Failed, Loading } from "@/shared/ui/States";
import { useSaid } from "@/shared/ui/useSaid";
import { Changed } from "./Changed";
import { COLUMNS, FIRST } from "./first";
import { Results } from "./Results";
import { ResultsTools } from "./ResultsTools";
import {
  belonging,
  DRAWN,
  firstPage,
  needed,
  PAGE,
  type Row,
  sharedScale,
  toColumns,
  toRows,
  valuesOf,
  withMeasured,
} from "./rows";
import { GalleryTools, MetricSelect, periodOf, sizeOf } from "./ViewTools";

const ColumnPicker = later(() => import("@/shared/ui/ColumnPicker").then((part) => part.ColumnPicker));
const Evidence = later(() => import("@/shared/stack/Evidence").then((part) => part.Evidence));
const Gallery = later(() => import("./Gallery").then((part) => part.Gallery));
const MarketMap = lazy(() => import("./MarketMap"));
const ALWAYS = ["price", "change_pct"];

const NO_RULES = { universe: "all", rules: [], any_groups: [] };

/** The first rows of the pages that are looked at and did not come with the answer. */
function pagesBeside(reply: ScreenReply | undefined, [first, last]: [number, number]): number[] {
  if (!reply) return [];
  const end = Math.min(last, Math.ceil(reply.symbols.length / PAGE) - 1);
  return [...Array(Math.max(0, end - first + 1)).keys()]
    .map((page) => (first + page) * PAGE)
    .filter((row) => row >= reply.first + reply.companies.length);
}

/** A screen with its survivors. All of it stands in the address. */
export function ScreenAt({
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
  const groups = useHandbook().data?.groups ?? [];
  const screens = useScreens().data;
  const market = useMarket().data;
  const baskets = useBaskets().data;
  const tray = useTray();
  const changeTray = useChangeTray();
  const { subject, setSubject } = useSubject();
  const navigate = useNavigate();
  const grid = useRef<HTMLDivElement>(null);
  const [choosing, setChoosing] = useState(false);
  const { said, say, copy: copySymbols, takeOut: writeFile } = useSaid();

  const stack = useStack(base, params, write);
  const { screen, current, changed, change, aim } = stack;

  const asOf = params.get("asof");
  const against = params.get("vs");
  const ids = useMemo(() => {
    // Columns that somebody chose say what its own rules measure; a rule that came since brings its number along.
    const own = screen.columns.length > 0 ? measuredBy(base.screen.rules, metricMap) : [];
    const measured = measuredBy(screen.rules, metricMap).filter((key) => !own.includes(key));
    return withMeasured(screen.columns.length > 0 ? screen.columns : COLUMNS, measured);
  }, [screen.columns, screen.rules, base, metricMap]);
  const asking = base.key === null && measuredBy(screen.rules, metricMap).length === 0;
  const area = params.get("area") ?? "market_cap";
  const shade = params.get("shade") ?? "change_pct";
  const spoken = useMemo(() => spokenOf(screen.rules, metricMap), [screen.rules, metricMap]);
  const [look, setLook] = useState<Look | null>(null);
  const request = useMemo(
    () => ({
      stack: { universe: current.universe, rules: current.rules, any_groups: current.anyGroups },
      columns: needed([...ALWAYS, ...ids, ...spoken, ...(screen.view === "map" ? [area, shade] : [])]),
      sort: current.sort,
      first: 0,
      // The map shows everybody at once.
      count: screen.view === "map" ? 10_000 : PAGE,
      as_of: asOf,
      aim,
      against:
        against === null
          ? null
          : against === "look" && look
            ? { session: look.session, symbols: look.symbols }
            : { session: null, symbols: null },
    }),
    [current, ids, spoken, screen.view, area, shade, asOf, aim, against, look],
  );
  const answer = useScreen(request);
  const reply = answer.data?.reply;
  const [seen, setSeen] = useState<[number, number]>([0, 0]);
  const onSeen = useCallback((first: number, last: number) => {
    // Half a page ahead, either way.
    const pages: [number, number] = [Math.max(0, first - PAGE / 2), last + PAGE / 2].map((row) =>
      Math.floor(row / PAGE),
    ) as [number, number];
    setSeen((before) => (before.join() === pages.join() ? before : pages));
  }, []);
  const asked = answer.data?.request;
  const more = useScreenPages(
    useMemo(
      () => ({
        stack: asked?.stack ?? NO_RULES,
        columns: asked?.columns ?? [],
        sort: asked?.sort ?? [],
        first: 0,
        count: PAGE,
        as_of: asked?.as_of ?? null,
      }),
      [asked],
    ),
    useMemo(() => pagesBeside(reply, seen), [reply, seen]),
  );
  const pages = useMemo(() => (reply ? [firstPage(reply), ...belonging(reply.symbols, more)] : []), [reply, more]);
  const rows = useMemo(() => toRows(reply?.symbols ?? [], pages), [reply, pages]);
  const columns = useMemo(() => toColumns(pages), [pages]);
  const scale = useMemo(() => sharedScale(columns), [columns]);
  useLook(changed ? null : (base.saved?.id ?? null), answer.isPlaceholderData ? undefined : reply, setLook);
  useEffect(() => {
    if (reply) tellResults(reply.symbols);
  }, [reply]);

  const reports = stack.reportsOf(answer.data?.request.stack.rules ?? [], reply?.rules);

  const { focused, walk, leave } = useWalk(params.get("at"), write);
  function open(symbol: string) {
    leave(symbol);
    // One step after the other: a second navigation at once would drop the first.
    soon(() => navigate(asOfDay(`/dossier/${symbol}`, asOf)));
  }

  const link = `/screen?${params}`;
  const why = reasonFor(screen, NAMES, base.draft.name || null, universeWords(screen.universe, baskets), link);
  const subjectOf = (row: Row): { symbol: string; why: Why; asOf: string | null } => ({
    symbol: row.symbol,
    why: { ...why, values: valuesOf(columns, row, spoken) },
    asOf: reply && !reply.newest ? reply.session : null,
  });
  const focusedRow = rows.find((row) => row.symbol === focused);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the reason is made anew when the focused row or the address changes
  useEffect(() => {
    // Before the first step the Peek shows the first name.
    const shown = focusedRow ?? (subject === null ? rows[0] : undefined);
    if (shown) setSubject(subjectOf(shown));
  }, [focusedRow, link, setSubject, rows, subject === null]);
  const focus = (row: Row) => {
    // Both at once: a key pressed right after a step is about the row stepped to.
    walk(row.symbol);
    setSubject(subjectOf(row));
  };

  const kept = useKeptScreen({
    things: NAMES,
    base,
    first: FIRST,
    screen,
    changed,
    link,
    write,
    onSaid: say,
  });

  const copy = () => copySymbols(rows.map((row) => row.symbol));
  const evidence = params.get("evidence") === "1";
  const toggleEvidence = () => write({ evidence: evidence ? null : "1" }, true);
  const setView = (view: View) => {
    change({ view });
    if (evidence) write({ evidence: null });
  };
  useKeys({
    r: () => whenRows(() => grid.current?.querySelector<HTMLElement>("[tabindex='0']")?.focus()),
    c: copy,
    o: kept.choose,
    "1": () => setView("table"),
    "2": () => setView("gallery"),
    "3": () => setView("map"),
    "4": toggleEvidence,
  });

  const session = reply?.session ?? market?.sessions.at(-1) ?? null;

  const inTray = useMemo(() => new Set(tray.data?.items.map((item) => item.symbol)), [tray.data]);
  const fresh = rows.filter((row) => !inTray.has(row.symbol));
  async function keepAll() {
    if (!asked) return;
    const { stack, sort, as_of } = asked;
    const all = await api
      .screenRows({ stack, columns: spoken, sort, first: 0, count: 10_000, as_of })
      .catch(() => null);
    if (!all) return say("The server did not answer; nothing was put in the tray.");
    const known = toColumns([all]);
    const taken = toRows(all.symbols, [all]).filter((row) => !inTray.has(row.symbol));
    const values = Object.fromEntries(taken.map((row) => [row.symbol, valuesOf(known, row, spoken)]));
    changeTray.mutate({
      kind: "change",
      change: {
        op: "add",
        symbols: taken.map((row) => row.symbol),
        why: { ...why, values: {} },
        values,
        version: null,
      },
    });
  }

  function takeOut(format: FileFormat) {
    const rules = { universe: screen.universe, rules: screen.rules, any_groups: screen.anyGroups };
    const name = base.draft.name || "Screen";
    const shown = needed(ids);
    writeFile("/api/screen/export", { format, name, stack: rules, columns: shown, sort: screen.sort, as_of: asOf });
  }

  const failed = answer.failureReason;
  // What is not answered because the server is away is said beside the rows, which stay as they are.
  const waiting = !failed && (!reply || answer.isPlaceholderData);
  useRowsBusy(waiting);
  const refused = failed instanceof ApiError && !failed.passing ? failed : null;
  return (
    <div className="screen">
      <Stack
        things={NAMES}
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
                <b>{count(rows.length, "name survives", "names survive")}</b> of {number(reply.universe)}
                {answer.isPlaceholderData && failed && ", before your last change"}
              </>
            ) : (
              " "
            )}
          </h2>
          <AsOf session={session} onWrite={write} />
          <span className="said" role="status">
            {said}
          </span>
          <ResultsTools
            view={screen.view}
            evidence={evidence}
            comparing={against !== null}
            structures={base.key && !changed ? asOfDay(`/structures?u=screen:${base.key}`, asOf) : null}
            fresh={fresh.length}
            all={rows.length}
            onView={setView}
            onEvidence={toggleEvidence}
            onCompare={() => write({ vs: against === null ? "previous" : null })}
            onColumns={() => setChoosing(true)}
            onFile={takeOut}
            onCopy={copy}
            onKeep={keepAll}
          />
        </header>
        {asking && !evidence && (
          <Asking
            starters={screens?.starters.filter((starter) => (starter.body.table ?? "names") === "names") ?? []}
            onOpen={(key) => kept.open(`s-${key}`)}
            onAll={kept.choose}
          />
        )}
        {!evidence && screen.view !== "table" && (
          <div className="view-tools">
            {screen.view === "gallery" ? (
              <GalleryTools params={params} onWrite={write} />
            ) : (
              <>
                <MetricSelect label="Area" value={area} metrics={metricMap} onChange={(key) => write({ area: key })} />
                <MetricSelect
                  label="Shade"
                  value={shade}
                  metrics={metricMap}
                  onChange={(key) => write({ shade: key })}
                />
              </>
            )}
          </div>
        )}
        {against !== null && (
          <Changed changed={reply?.changed ?? null} rules={current.rules}>
            <select
              aria-label="Compare with"
              value={against === "look" && look ? "look" : "previous"}
              onChange={(event) => write({ vs: event.target.value })}
            >
              <option value="previous">the session before</option>
              {look && (
                <option value="look">
                  your last look, as of {date(look.session)} ({look.symbols.length})
                </option>
              )}
            </select>
          </Changed>
        )}
        {refused ? (
          <Failed error={refused} />
        ) : !reply ? (
          failed ? (
            <Failed error={failed} />
          ) : (
            <Loading what="the market" />
          )
        ) : evidence ? (
          <Evidence things={NAMES} screen={current} params={params} onWrite={write} />
        ) : rows.length === 0 ? (
          <Empty>
            <p>No name survives these rules.</p>
            <Narrowest reports={reply.rules} things={NAMES} />
          </Empty>
        ) : screen.view === "gallery" ? (
          <Gallery
            rows={rows}
            columns={columns}
            what={params.get("chart") === "volatility" ? "volatility" : "price"}
            size={sizeOf(params.get("size"))}
            period={periodOf(params.get("period"))}
            onSeen={onSeen}
            asOf={asOf}
            focused={focused}
            onFocus={focus}
            onOpen={open}
            tray={inTray}
            gridRef={grid}
          />
        ) : screen.view === "map" ? (
          <Suspense fallback={<Loading what="the map" />}>
            <MarketMap
              rows={rows}
              columns={columns}
              metrics={metricMap}
              area={area}
              shade={shade}
              focused={focused}
              onFocus={focus}
              onOpen={open}
            />
          </Suspense>
        ) : (
          <Results
            rows={rows}
            ids={ids}
            columns={columns}
            metrics={metricMap}
            scale={scale}
            sort={screen.sort}
            order={asked?.sort?.join() ?? ""}
            onSeen={onSeen}
            onSort={(sort) => write(writeScreen({ ...screen, sort }, base.screen))}
            asOf={asOf}
            focused={focused}
            onFocus={focus}
            onOpen={open}
            tray={inTray}
            gridRef={grid}
          />
        )}
      </section>
      {kept.dialogs}
      {choosing && (
        <ColumnPicker
          chosen={ids}
          usual={COLUMNS}
          metrics={metrics}
          groups={groups}
          drawn={DRAWN}
          onChange={(next) => change({ columns: next.join() === COLUMNS.join() ? [] : next })}
          onHide={() => setChoosing(false)}
        />
      )}
    </div>
  );
}
