import type { SortingState } from "@tanstack/react-table";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { useSubject } from "@/frame/subject";
import { useAddress } from "@/shared/address";
import { useChangeTray, useMetrics, useScreen, useTray } from "@/shared/api/queries";
import { count, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { Empty, Failed, Loading } from "@/shared/ui/States";
import { Results, type Row, toRows } from "./Results";
import { RuleCard } from "./RuleCard";
import { isOpen, type Rule, readRule, reasonFor, UNIVERSES, type Universe, writeRange } from "./rules";

const FIRST_SORT = "-iv_hv_ratio";

/** Find names whose options are dear or cheap: rules beside results. All of it stands in the page's address. */
export function ScreenPage() {
  // Rules make a step that Back takes back; walking and sorting do not.
  const [params, write] = useAddress();
  const metrics = useMetrics();
  const tray = useTray();
  const changeTray = useChangeTray();
  const { setSubject } = useSubject();
  const navigate = useNavigate();
  const grid = useRef<HTMLDivElement>(null);
  const [moving, setMoving] = useState<Rule | null>(null);

  const asked = params.get("universe");
  const universe: Universe = asked === "stock" || asked === "fund" ? asked : "all";
  const rules = useMemo(
    () => metrics.filter((metric) => metric.is_rule).map((metric) => readRule(metric, params.get(metric.key))),
    [metrics, params],
  );
  const current = useMemo(() => rules.map((rule) => (moving?.metric === rule.metric ? moving : rule)), [rules, moving]);
  const request = useMemo(
    () => ({ universe, rule: current.map((rule) => `${rule.metric}:${writeRange(rule) || ".."}`) }),
    [universe, current],
  );
  const screen = useScreen(request);
  const rows = useMemo(() => (screen.data ? toRows(screen.data) : []), [screen.data]);

  const sortText = params.get("sort") ?? FIRST_SORT;
  const sorting: SortingState = useMemo(
    () => (sortText ? [{ id: sortText.replace(/^-/, ""), desc: sortText.startsWith("-") }] : []),
    [sortText],
  );
  // The focused row moves at once; the address follows when the walk pauses.
  const at = params.get("at");
  const [focused, setFocused] = useState(at);
  const written = useRef(at);
  useEffect(() => {
    // Our own writing comes back late; only an address from elsewhere moves the row.
    if (at === written.current) return;
    written.current = at;
    setFocused(at);
  }, [at]);

  useEffect(() => {
    if (focused === at) return;
    const timer = setTimeout(() => {
      written.current = focused;
      write({ at: focused });
    }, 120);
    return () => clearTimeout(timer);
  }, [focused, at, write]);

  // Let go, an edge stays where it is until the address has it too.
  const settle = (rule: Rule) => {
    setMoving(rule);
    write({ [rule.metric]: writeRange(rule) }, true);
  };
  useEffect(() => {
    if (moving && (params.get(moving.metric) ?? "") === writeRange(moving)) setMoving(null);
  }, [moving, params]);

  function open(symbol: string) {
    written.current = symbol;
    write({ at: symbol });
    // One step after the other: a second navigation at once would drop the first.
    setTimeout(() => navigate(`/dossier/${symbol}`));
  }

  const link = `/screen?${params}`;
  const subjectOf = (row: Row) => ({
    symbol: row.symbol,
    why: reasonFor(metrics, current, universe, link, row.values),
  });
  const focusedRow = rows.find((row) => row.symbol === focused);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the reason is made anew when the focused row or the address changes
  useEffect(() => {
    if (focusedRow) setSubject(subjectOf(focusedRow));
  }, [focusedRow, link, setSubject]);

  useKeys({ r: () => grid.current?.querySelector("table")?.focus() });

  const inTray = useMemo(() => new Set(tray.data?.items.map((item) => item.symbol)), [tray.data]);
  const set = rules.filter((rule) => !isOpen(rule) || rule.bad);
  const fresh = rows.filter((row) => !inTray.has(row.symbol));

  function keepAll() {
    const why = reasonFor(metrics, current, universe, link, {});
    changeTray.mutate({ kind: "add", symbols: fresh.map((row) => row.symbol), why: { ...why, values: {} } });
  }

  return (
    <div className="screen">
      <section className="stack" aria-label="Rules">
        <header>
          <h1>Screen</h1>
          <fieldset className="segments">
            <legend className="visually-hidden">Universe</legend>
            {UNIVERSES.map(({ value, label }) => (
              <label key={value} className={value === universe ? "chosen" : undefined}>
                <input
                  type="radio"
                  name="universe"
                  checked={value === universe}
                  onChange={() => write({ universe: value === "all" ? null : value }, true)}
                />
                {label}
              </label>
            ))}
          </fieldset>
          <span className="survivors" title="Optionable names in this universe">
            {screen.data ? number(screen.data.universe) : ""}
          </span>
        </header>
        <div className="stack-rules">
          {metrics
            .filter((metric) => metric.is_rule)
            .map((metric) => {
              const rule = current.find((r) => r.metric === metric.key) as Rule;
              const report = screen.data?.rules.find((r) => r.metric === metric.key);
              return (
                <RuleCard
                  key={metric.key}
                  metric={metric}
                  rule={rule}
                  report={report}
                  onMove={setMoving}
                  onDone={settle}
                />
              );
            })}
        </div>
      </section>
      <section className="results" aria-label="Results">
        <header>
          <h2 aria-live="polite">
            {screen.data ? (
              <>
                <b>{count(rows.length, "name survives", "names survive")}</b> of {number(screen.data.universe)}
                {screen.isPlaceholderData && screen.failureReason && ", before your last change"}
              </>
            ) : (
              " "
            )}
          </h2>
          <div>
            {set.length > 0 && (
              <button
                type="button"
                className="quiet"
                onClick={() => write(Object.fromEntries(set.map((rule) => [rule.metric, null])), true)}
              >
                open all rules
              </button>
            )}
            {fresh.length > 0 && fresh.length <= 500 && (
              <button type="button" className="quiet" onClick={keepAll}>
                {fresh.length === rows.length
                  ? `put all ${rows.length} in the tray`
                  : `put ${fresh.length} more in the tray`}
              </button>
            )}
          </div>
        </header>
        {screen.data ? (
          rows.length > 0 ? (
            <Results
              rows={rows}
              metrics={metrics}
              sorting={sorting}
              onSort={(next) => write({ sort: next[0] ? `${next[0].desc ? "-" : ""}${next[0].id}` : null })}
              focused={focused}
              onFocus={(row: Row) => {
                // Both at once: a key pressed right after a step is about the row stepped to.
                setFocused(row.symbol);
                setSubject(subjectOf(row));
              }}
              tray={inTray}
              onOpen={open}
              gridRef={grid}
            />
          ) : (
            <Empty>
              <p>No name survives these rules.</p>
              <Narrowest rules={screen.data.rules} labels={new Map(metrics.map((m) => [m.key, m.label]))} />
            </Empty>
          )
        ) : screen.failureReason ? (
          <Failed error={screen.failureReason} />
        ) : (
          <Loading what="the market" />
        )}
      </section>
    </div>
  );
}

/** Which rule to loosen when nothing is left: the one whose dropping brings most names back. */
function Narrowest({ rules, labels }: { rules: { metric: string; lone_cut: number }[]; labels: Map<string, string> }) {
  const best = rules.reduce((a, b) => (b.lone_cut > a.lone_cut ? b : a), { metric: "", lone_cut: 0 });
  if (best.lone_cut === 0) return <p className="muted">No single rule does it: open two or more of them.</p>;
  return (
    <p className="muted">
      Dropping only {labels.get(best.metric)} would bring back {count(best.lone_cut, "name")}.
    </p>
  );
}
