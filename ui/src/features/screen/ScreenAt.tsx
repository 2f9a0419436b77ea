import { lazy, Suspense, useCallback, useEffect, useMemo, useState } from "react";
import { tellResults } from "@/frame/results";
import { useSubject } from "@/frame/subject";
import { asOfDay } from "@/shared/address";
import { api, type FileFormat, type ScreenReply, type ScreenRequest, type Why } from "@/shared/api/client";
import {
  useHandbook,
  useMarket,
  useMetricMap,
  useMetrics,
  useScreen,
  useScreenPages,
  useScreens,
} from "@/shared/api/queries";
import { count, date, moment, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { Asking } from "@/shared/stack/Asking";
import { answerTo, momentOf, useHeld } from "@/shared/stack/held";
import { type Look, useLook } from "@/shared/stack/kept";
import { Narrowest } from "@/shared/stack/Stack";
import { Replied, type StackAddress, StackFrame, useAnswered, useStackPage } from "@/shared/stack/StackPage";
import { measuredBy, spokenOf } from "@/shared/stack/spoken";
import { type View, writeScreen } from "@/shared/stack/state";
import { NAMES } from "@/shared/stack/things";
import { later } from "@/shared/ui/later";
import { Empty, Loading } from "@/shared/ui/States";
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
  placesOf,
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

const itself = (symbol: string) => symbol;
const NOBODY: string[] = [];
/** So many rows before and after those that are looked at are there too. */
const AHEAD = PAGE / 2;

/** The first rows of the pages with what is looked at, that did not come with the answer; `seen` in parts of AHEAD rows. */
function pagesBeside(reply: ScreenReply | undefined, order: string[], seen: [number, number]): number[] {
  if (!reply) return [];
  const [first, last] = seen;
  const place = placesOf(reply.symbols);
  const pages = order.slice(Math.max(0, first) * AHEAD, last * AHEAD).flatMap((symbol) => {
    const i = place.get(symbol) ?? 0;
    return i < reply.first + reply.companies.length ? [] : [Math.floor(i / PAGE) * PAGE];
  });
  return [...new Set(pages)];
}

/** The newest that is whole, or, where something else is asked, what there is of it. */
function useWhole<Shown extends { question: unknown }>(newest: Shown, whole: boolean): Shown {
  const [last, keep] = useState(newest);
  const shown = whole || last.question !== newest.question ? newest : last;
  if (shown !== last) keep(shown);
  return shown;
}

/** A screen with its survivors. All of it stands in the address. */
/** What the screen is compared with, as the address says it. */
function comparison(against: string | null, look: Look | null): ScreenRequest["against"] {
  if (against === null) return null;
  const none = { session: null, since: null, moment: null, symbols: null };
  if (against === "open" || against === "hour") return { ...none, since: against };
  if (against !== "look" || !look) return none;
  return { ...none, session: look.session, moment: look.moment, symbols: look.symbols };
}

export function ScreenAt(address: StackAddress) {
  const { base, params, write } = address;
  const metrics = useMetrics();
  const metricMap = useMetricMap();
  const handbook = useHandbook();
  const groups = handbook.data?.groups ?? [];
  const screens = useScreens().data;
  const { subject, setSubject } = useSubject();
  const [choosing, setChoosing] = useState(false);

  const page = useStackPage(NAMES, FIRST, address);
  const { asOf, focused, walk, link, why, kept, grid, inTray, go } = page;
  const { screen, current, changed, change, aim } = page.stack;
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
  const market = useMarket().data;
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
      against: comparison(against, look),
    }),
    [current, ids, spoken, screen.view, area, shade, asOf, aim, against, look],
  );
  // Which columns rules bring along is known with the catalogue: asked before it is there, the screen would be asked for twice.
  const ready = screen.rules.length === 0 || handbook.data !== undefined || handbook.failureReason !== null;
  const answer = useScreen(request, ready);
  const answered = useAnswered(page, answer);
  const { reply, asked } = answered;
  const of =
    asked && reply ? answerTo({ stack: asked.stack, sort: asked.sort, as_of: asked.as_of ?? null }, reply) : null;
  const question = of?.question;
  const held = useHeld(of, reply?.symbols ?? NOBODY, itself);
  const [seen, setSeen] = useState<[number, number]>([0, 0]);
  const onSeen = useCallback((first: number, last: number) => {
    // Half a page ahead, either way, and in steps, so that walking down asks for nothing new with every row.
    const part: [number, number] = [Math.floor(first / AHEAD) - 1, Math.floor(last / AHEAD) + 2];
    setSeen((before) => (before.join() === part.join() ? before : part));
  }, []);
  // A map has no order to keep: it shows who is there now.
  const order = screen.view === "map" && reply ? reply.symbols : held.rows;
  const wanted = useMemo(() => pagesBeside(reply, order, seen), [reply, order, seen]);
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
    wanted,
  );
  const pages = useMemo(() => (reply ? [firstPage(reply), ...belonging(reply.symbols, more)] : []), [reply, more]);
  // A moment is drawn when all that is looked at of it has come.
  const whole = wanted.every((first) => pages.some((page) => page.first === first));
  const drawn = useWhole(
    useMemo(() => ({ question, reply, pages, order, turn: held.turn }), [question, reply, pages, order, held.turn]),
    whole,
  );
  const rows = useMemo(() => toRows(drawn.reply?.symbols ?? [], drawn.pages, drawn.order), [drawn]);
  const columns = useMemo(() => toColumns(drawn.pages), [drawn]);
  const scale = useMemo(() => sharedScale(columns), [columns]);
  useLook(changed ? null : (base.saved?.id ?? null), answer.isPlaceholderData ? undefined : reply, setLook);
  useEffect(() => {
    if (reply) tellResults(reply.symbols);
  }, [reply]);

  const open = (symbol: string) => go(`/dossier/${symbol}`, symbol);
  const subjectOf = (row: Row): { symbol: string; why: Why; asOf: string | null } => ({
    symbol: row.symbol,
    why: { ...why, values: valuesOf(columns, row, spoken) },
    asOf: answered.past,
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

  const copy = () => page.copy(reply?.symbols ?? []);
  const evidence = params.get("evidence") === "1";
  const toggleEvidence = () => write({ evidence: evidence ? null : "1" }, true);
  const setView = (view: View) => {
    change({ view });
    if (evidence) write({ evidence: null });
  };
  useKeys({
    c: copy,
    "1": () => setView("table"),
    "2": () => setView("gallery"),
    "3": () => setView("map"),
    "4": toggleEvidence,
  });

  async function keepAll() {
    if (!asked) return;
    const { stack, sort, as_of } = asked;
    const all = await api
      .screenRows({ stack, columns: spoken, sort, first: 0, count: 10_000, as_of })
      .catch(() => null);
    if (!all) return page.say("The server did not answer; nothing was put in the tray.");
    const known = toColumns([all]);
    const taken = toRows(all.symbols, [all]).filter((row) => !inTray.has(row.symbol));
    const values = Object.fromEntries(taken.map((row) => [row.symbol, valuesOf(known, row, spoken)]));
    page.changeTray.mutate({
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
    page.takeOut("/api/screen/export", { format, name, stack: rules, columns: shown, sort: screen.sort, as_of: asOf });
  }

  return (
    <StackFrame
      page={page}
      answered={answered}
      names={metrics}
      metrics={metricMap}
      survivors={
        reply && (
          <>
            <b>{count(reply.symbols.length, "name survives", "names survive")}</b> of {number(reply.universe)}
          </>
        )
      }
      held={screen.view === "map" || evidence ? null : held}
      tools={
        <ResultsTools
          view={screen.view}
          evidence={evidence}
          comparing={against !== null}
          waits={
            base.key && !changed && asOf === null
              ? `/tripwires?${new URLSearchParams({ make: "1", source: `screen:${base.key}`, why: base.draft.name })}`
              : null
          }
          structures={base.key && !changed ? asOfDay(`/structures?u=screen:${base.key}`, asOf) : null}
          fresh={answered.fresh.length}
          all={reply?.symbols.length ?? 0}
          onView={setView}
          onEvidence={toggleEvidence}
          onCompare={() => write({ vs: against === null ? "previous" : null })}
          onColumns={() => setChoosing(true)}
          onFile={takeOut}
          onCopy={copy}
          onKeep={keepAll}
        />
      }
    >
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
              <MetricSelect label="Shade" value={shade} metrics={metricMap} onChange={(key) => write({ shade: key })} />
            </>
          )}
        </div>
      )}
      {against !== null && (
        <Changed changed={reply?.changed ?? null} rules={current.rules}>
          <select
            aria-label="Compare with"
            value={against === "look" && !look ? "previous" : against}
            onChange={(event) => write({ vs: event.target.value })}
          >
            <option value="previous">the session before</option>
            {reply && market?.played.includes(reply.session) && (
              <>
                <option value="open">the open</option>
                <option value="hour">an hour ago</option>
              </>
            )}
            {look && (
              <option value="look">
                your last look, {look.moment ? moment(look.moment) : date(look.session)} ({look.symbols.length})
              </option>
            )}
          </select>
        </Changed>
      )}
      <Replied answered={answered} ready={reply !== undefined} what="the market">
        {() =>
          !reply ? null : evidence ? (
            <Evidence things={NAMES} screen={current} params={params} onWrite={write} />
          ) : reply.symbols.length === 0 ? (
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
              version={drawn.reply && momentOf(drawn.reply)}
              turn={drawn.turn}
              onSeen={onSeen}
              onSort={(sort) => write(writeScreen({ ...screen, sort }, base.screen))}
              asOf={asOf}
              focused={focused}
              onFocus={focus}
              onOpen={open}
              tray={inTray}
              gridRef={grid}
            />
          )
        }
      </Replied>
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
    </StackFrame>
  );
}
