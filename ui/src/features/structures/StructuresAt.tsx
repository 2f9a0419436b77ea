import { useEffect, useMemo, useState } from "react";
import { useSubject } from "@/frame/subject";
import { asOfDay } from "@/shared/address";
import type { FileFormat } from "@/shared/api/client";
import { useByKey, useHandbook, useScreens, useStructureMetrics, useStructures } from "@/shared/api/queries";
import { count, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { useNavigate } from "@/shared/route";
import { Asking } from "@/shared/stack/Asking";
import { answerTo, useHeld } from "@/shared/stack/held";
import { Narrowest } from "@/shared/stack/Stack";
import { Replied, type StackAddress, StackFrame, useAnswered, useStackPage } from "@/shared/stack/StackPage";
import { type Search, USUAL_SEARCH, writeScreen } from "@/shared/stack/state";
import { STRUCTURES } from "@/shared/stack/things";
import { oneAddress } from "@/shared/structures/one";
import { later } from "@/shared/ui/later";
import { MoreRows } from "@/shared/ui/MoreRows";
import { Segments } from "@/shared/ui/Segments";
import { Empty, Loading } from "@/shared/ui/States";
import { SymbolLink } from "@/shared/ui/SymbolLink";
import { TakeAlong } from "@/shared/ui/TakeAlong";
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

const keyOf = (one: Row) => one.key;

/** Structures that a search makes and a stack of rules leaves. All of it stands in the address. */
export function StructuresAt(address: StackAddress) {
  const { base, params, write } = address;
  const metrics = useStructureMetrics();
  const metricMap = useByKey(metrics);
  const groups = useHandbook().data?.structure_groups ?? [];
  const screens = useScreens().data;
  const { setSubject } = useSubject();
  const navigate = useNavigate();
  const [shown, setShown] = useState(PAGE);
  const [choosing, setChoosing] = useState(false);

  const page = useStackPage(STRUCTURES, FIRST, address);
  const { asOf, focused, walk, link, why, kept, inTray, go } = page;
  const { screen, current, changed, change, aim } = page.stack;
  const search = screen.search ?? USUAL_SEARCH;
  const view = screen.view === "front" ? "front" : "table";
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
  const answered = useAnswered(page, useStructures(request));
  const { reply, asked: told, past } = answered;
  const rows = useMemo(() => (reply?.rows ?? []).map((row, place): Row => ({ ...row, place })), [reply]);
  const held = useHeld(told && reply ? answerTo({ ...told, columns: [], aim: null }, reply) : null, rows, keyOf);
  const row = held.rows.find((one) => one.key === focused) ?? held.rows[0];
  const symbol = row?.symbol ?? null;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the reason is made anew when the focused row or the address changes
  useEffect(() => {
    if (symbol) setSubject({ symbol, why: { ...why, values: {} }, asOf: past });
  }, [symbol, link, past, setSubject]);

  const open = (one: { key: string }) => go(oneAddress(one.key, search.entry, search.scaled, screen.universe), one.key);
  const toDossier = (name: string) => go(`/dossier/${name}`, focused ?? "");
  const columns = structureColumns(
    (one) => <SymbolLink symbol={one.symbol} to={asOfDay(`/dossier/${one.symbol}`, asOf)} onOpen={toDossier} />,
    reply?.columns ?? [],
    metricMap,
  );
  const copy = () => page.copy(reply?.symbols ?? []);
  const setSearch = (changes: Partial<Search>) => change({ search: { ...search, ...changes } });
  const setView = (next: "table" | "front") => {
    change({ view: next });
    if (record) write({ record: null });
  };
  const fold = (next: boolean) => write({ form: next ? "1" : null });
  useKeys({
    c: copy,
    f: () => fold(!unfolded),
    "1": () => setView("table"),
    "2": () => setView("front"),
    "3": showRecord,
    z: () => navigate(-1),
  });
  function takeOut(format: FileFormat) {
    page.takeOut("/api/structures/export", {
      ...asked,
      format,
      name: base.draft.name || "Structures",
      columns: current.columns,
    });
  }

  const asking = base.key === null && !changed;
  const table = (total: number) => (
    <WalkTable
      label="Structures that survive"
      held={held}
      keyOf={keyOf}
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
      gridRef={page.grid}
    >
      <MoreRows shown={rows.length} total={total} step={2 * PAGE} most={MOST} onMore={setShown} />
    </WalkTable>
  );
  return (
    <StackFrame
      page={page}
      answered={answered}
      names={metrics}
      metrics={metricMap}
      className="structures-page"
      survivors={
        reply && (
          <>
            <b>{count(reply.survivors, "structure survives", "structures survive")}</b> of {number(reply.universe)} on{" "}
            {count(reply.names, "name")}
          </>
        )
      }
      held={record ? null : held}
      tools={
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
              fresh={answered.fresh.length}
              all={reply?.symbols.length ?? 0}
              onFile={takeOut}
              onCopy={copy}
              onKeep={() => page.keep(answered.fresh)}
            />
          </div>
        </div>
      }
    >
      {screen.universe === WORTH_A_LOOK && page.tray.data?.items.length === 0 && (
        <p className="hint">
          The tray is empty, so these are structures on the names that <i>Premium to sell</i> leaves tonight. Press t on
          a name anywhere to keep it, and choose <i>the tray</i> on the left to see what it is good for.
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
      ) : (
        <Replied answered={answered} ready={reply !== undefined} what="quotes and opinions">
          {() =>
            !reply ? null : reply.reason ? (
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
                  {table(reply.total)}
                </>
              ) : (
                <Loading what="the front" />
              )
            ) : (
              table(reply.total)
            )
          }
        </Replied>
      )}
      {reply && reply.universe > 0 && !record && (
        <p className="doubts muted">
          {number(reply.left_out)} options of these names have no usable quote and make no structure. A chance is an
          opinion: hollow the fitted smile’s, solid the name’s own past, a stroke the forecast. The record (3) tells how
          good each was.
        </p>
      )}
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
    </StackFrame>
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
