import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { useSubject } from "@/frame/subject";
import { asOfDay } from "@/shared/address";
import { ApiError, type FileFormat } from "@/shared/api/client";
import {
  useBaskets,
  useByKey,
  useChangeTray,
  useHandbook,
  useMarket,
  useScreens,
  useStructureMetrics,
  useStructures,
  useTray,
} from "@/shared/api/queries";
import { count, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { soon, useRowsBusy, whenRows } from "@/shared/settled";
import { Asking } from "@/shared/stack/Asking";
import type { Base } from "@/shared/stack/base";
import { Narrowest, Stack, universeWords } from "@/shared/stack/Stack";
import { reasonFor, type Search, USUAL_SEARCH, writeScreen } from "@/shared/stack/state";
import { STRUCTURES } from "@/shared/stack/things";
import { useKeptScreen } from "@/shared/stack/useKeptScreen";
import { useStack } from "@/shared/stack/useStack";
import { useWalk } from "@/shared/stack/walk";
import { oneAddress } from "@/shared/structures/one";
import { AsOf } from "@/shared/ui/AsOf";
import { later } from "@/shared/ui/later";
import { MoreRows } from "@/shared/ui/MoreRows";
import { Segments } from "@/shared/ui/Segments";
import { Empty, Failed, Loading } from "@/shared/ui/States";
import { SymbolLink } from "@/shared/ui/SymbolLink";
import { TakeAlong } from "@/shared/ui/TakeAlong";
import { useSaid } from "@/shared/ui/useSaid";
import { WalkTable } from "@/shared/ui/WalkTable";
import { type Row, structureColumns } from "./columns";
import { FrontFigure } from "./FrontFigure";
import { FIRST, WORTH_A_LOOK } from "./first";
import { OpinionRecord } from "./OpinionRecord";
import { SearchForm } from "./SearchForm";

const ColumnPicker = later(() => import("@/shared/ui/ColumnPicker").then((part) => part.ColumnPicker));

const PAGE = 200;
const MOST = 1_200;
const VIEWS = [
  { value: "table" as const, label: "list" },
  { value: "front" as const, label: "front" },
];

/** Structures that a search makes and a stack of rules leaves. All of it stands in the address. */
export function StructuresAt({
  base,
  params,
  write,
}: {
  base: Base;
  params: URLSearchParams;
  write: (changes: Record<string, string | null>, step?: boolean) => void;
}) {
  const metrics = useStructureMetrics();
  const metricMap = useByKey(metrics);
  const groups = useHandbook().data?.structure_groups ?? [];
  const screens = useScreens().data;
  const market = useMarket().data;
  const baskets = useBaskets().data;
  const tray = useTray();
  const changeTray = useChangeTray();
  const { setSubject } = useSubject();
  const navigate = useNavigate();
  const grid = useRef<HTMLDivElement>(null);
  const { said, say, copy: copySymbols, takeOut: writeFile } = useSaid();
  const [shown, setShown] = useState(PAGE);
  const [choosing, setChoosing] = useState(false);

  const stack = useStack(base, params, write);
  const { screen, current, changed, change, aim } = stack;
  const search = screen.search ?? USUAL_SEARCH;
  const view = screen.view === "front" ? "front" : "table";
  const asOf = params.get("asof");
  const unfolded = params.get("form") === "1";
  const record = params.get("record") === "1";
  const showRecord = () => write({ record: record ? null : "1" }, true);
  const asked = useMemo(
    () => ({
      stack: { universe: current.universe, rules: current.rules, any_groups: current.anyGroups },
      search: current.search ?? USUAL_SEARCH,
      as_of: asOf,
      sort: current.sort,
      front_only: false,
    }),
    [current, asOf],
  );
  const request = useMemo(
    () => ({
      ...asked,
      front_only: view === "front",
      columns: current.columns,
      first: 0,
      count: view === "front" ? PAGE : shown,
      aim,
      points: view === "front",
    }),
    [asked, view, shown, aim, current.columns],
  );
  const answer = useStructures(request);
  const reply = answer.data?.reply;
  const told = answer.data?.request;
  const reports = stack.reportsOf(told?.stack.rules ?? [], reply?.rules);
  const rows = useMemo(() => (reply?.rows ?? []).map((row, place): Row => ({ ...row, place })), [reply]);
  const { focused, walk, leave } = useWalk(params.get("at"), write);
  const row = rows.find((one) => one.key === focused) ?? rows[0];
  const symbol = row?.symbol ?? null;
  const link = `/structures?${params}`;
  const why = reasonFor(screen, STRUCTURES, base.draft.name || null, universeWords(screen.universe, baskets), link);
  const past = reply && !reply.newest ? reply.session : null;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the reason is made anew when the focused row or the address changes
  useEffect(() => {
    if (symbol) setSubject({ symbol, why: { ...why, values: {} }, asOf: past });
  }, [symbol, link, past, setSubject]);

  const kept = useKeptScreen({ things: STRUCTURES, base, first: FIRST, screen, changed, link, write, onSaid: say });
  function open(one: { key: string }) {
    leave(one.key);
    soon(() => navigate(asOfDay(oneAddress(one.key, search.entry, search.scaled, screen.universe), asOf)));
  }
  const toDossier = (name: string) => {
    leave(focused ?? "");
    soon(() => navigate(asOfDay(`/dossier/${name}`, asOf)));
  };
  const columns = structureColumns(
    (one) => <SymbolLink symbol={one.symbol} to={asOfDay(`/dossier/${one.symbol}`, asOf)} onOpen={toDossier} />,
    reply?.columns ?? [],
    metricMap,
  );
  const inTray = useMemo(() => new Set(tray.data?.items.map((item) => item.symbol)), [tray.data]);
  const fresh = reply?.symbols.filter((name) => !inTray.has(name)) ?? [];
  const copy = () => copySymbols(reply?.symbols ?? []);
  const setSearch = (changes: Partial<Search>) => change({ search: { ...search, ...changes } });
  const setView = (next: "table" | "front") => {
    change({ view: next });
    if (record) write({ record: null });
  };
  const fold = (next: boolean) => write({ form: next ? "1" : null });
  useKeys({
    r: () => whenRows(() => grid.current?.querySelector<HTMLElement>("[tabindex='0']")?.focus()),
    c: copy,
    f: () => fold(!unfolded),
    o: kept.choose,
    "1": () => setView("table"),
    "2": () => setView("front"),
    "3": showRecord,
    z: () => navigate(-1),
  });
  function takeOut(format: FileFormat) {
    writeFile("/api/structures/export", {
      ...asked,
      format,
      name: base.draft.name || "Structures",
      columns: current.columns,
    });
  }

  const failed = answer.failureReason;
  // What is not answered because the server is away is said beside the rows, which stay as they are.
  const waiting = !failed && (!reply || answer.isPlaceholderData);
  useRowsBusy(waiting);
  const refused = failed instanceof ApiError && !failed.passing ? failed : null;
  const asking = base.key === null && !changed;
  const table = (list: Row[], total: number) => (
    <WalkTable
      label="Structures that survive"
      rows={list}
      keyOf={(one) => one.key}
      columns={columns}
      sort={search.weights.length > 0 ? "" : (told?.sort?.[0] ?? "")}
      onSort={(next) => {
        const bare = { ...screen, sort: [next], search: { ...search, weights: [] } };
        write(writeScreen(bare, base.screen));
      }}
      focused={focused}
      inTray={(one) => inTray.has(one.symbol)}
      onFocus={(one) => walk(one.key)}
      onOpen={open}
      gridRef={grid}
    >
      <MoreRows shown={list.length} total={total} step={2 * PAGE} most={MOST} onMore={setShown} />
    </WalkTable>
  );
  return (
    <div className="screen structures-page">
      <Stack
        things={STRUCTURES}
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
                <b>{count(reply.survivors, "structure survives", "structures survive")}</b> of {number(reply.universe)}{" "}
                on {count(reply.names, "name")}
                {answer.isPlaceholderData && failed && ", before your last change"}
              </>
            ) : (
              " "
            )}
          </h2>
          <AsOf session={reply?.session ?? market?.sessions.at(-1) ?? null} onWrite={write} />
          <span className="said" role="status">
            {said}
          </span>
          <div className="results-tools">
            <div className="tool-group">
              <Segments legend="View" values={VIEWS} chosen={record ? null : view} onChoose={setView} />
            </div>
            <div className="tool-group">
              <button type="button" className="quiet" aria-pressed={record} onClick={showRecord}>
                record
              </button>
              <button type="button" className="quiet" onClick={() => setChoosing(true)}>
                columns
              </button>
              <TakeAlong
                fresh={fresh.length}
                all={reply?.symbols.length ?? 0}
                onFile={takeOut}
                onCopy={copy}
                onKeep={() => changeTray.mutate({ kind: "add", symbols: fresh, why: { ...why, values: {} } })}
              />
            </div>
          </div>
        </header>
        {screen.universe === WORTH_A_LOOK && tray.data?.items.length === 0 && (
          <p className="hint">
            The tray is empty, so these are structures on the names that <i>Premium to sell</i> leaves tonight. Press t
            on a name anywhere to keep it, and choose <i>the tray</i> on the left to see what it is good for.
          </p>
        )}
        {asking && (
          <Asking
            starters={screens?.starters.filter((starter) => starter.body.table === "structures") ?? []}
            onOpen={(key) => kept.open(`s-${key}`)}
            onAll={kept.choose}
          />
        )}
        <SearchForm search={search} open={unfolded} onOpen={fold} onChange={setSearch} />
        {record ? (
          <OpinionRecord symbol={symbol} asOf={asOf} />
        ) : refused ? (
          <Failed error={refused} />
        ) : !reply ? (
          failed ? (
            <Failed error={failed} />
          ) : (
            <Loading what="quotes and opinions" />
          )
        ) : reply.reason ? (
          <Empty>
            <p>{reply.reason}</p>
          </Empty>
        ) : reply.universe === 0 ? (
          <Nothing names={reply.names} targets={reply.targets} tray={screen.universe === "tray"} />
        ) : reply.survivors === 0 ? (
          <Empty>
            <p>No structure survives these rules.</p>
            <Narrowest reports={reply.rules} things={STRUCTURES} />
          </Empty>
        ) : view === "front" ? (
          reply.front ? (
            <>
              <FrontFigure
                front={reply.front}
                metrics={metrics}
                focused={focused ?? row?.key ?? null}
                search={search}
                onFocus={walk}
                onOpen={open}
                onAxes={(front) => setSearch({ front })}
              />
              {table(rows, reply.total)}
            </>
          ) : (
            <Loading what="the front" />
          )
        ) : (
          table(rows, reply.total)
        )}
        {reply && reply.universe > 0 && !record && (
          <p className="doubts muted">
            {number(reply.left_out)} options of these names have no usable quote and make no structure. A chance is an
            opinion: hollow the fitted smile’s, solid the name’s own past, a stroke the forecast. The record (3) tells
            how good each was.
          </p>
        )}
      </section>
      {choosing && (
        <ColumnPicker
          chosen={screen.columns}
          usual={FIRST.columns}
          metrics={metrics}
          groups={groups}
          onChange={(next) => change({ columns: next })}
          onHide={() => setChoosing(false)}
        />
      )}
      {kept.dialogs}
    </div>
  );
}

function Nothing({ names, targets, tray }: { names: number; targets: number | null; tray: boolean }) {
  return (
    <Empty>
      {names === 0 ? (
        <p>
          {tray
            ? "The tray is empty. Put names in it from any page with t, or choose another universe on the left."
            : "This universe has no name with options."}
        </p>
      ) : targets === 0 ? (
        <p>None of these names has a price as target: choose another target, or put own lines on their Dossiers.</p>
      ) : (
        <p>
          These names’ quotes make no such structure. Widen the days, the strikes or the widths: press f, or look at how
          far strikes lie apart in the chain.
        </p>
      )}
    </Empty>
  );
}
