import { type ReactNode, useEffect, useRef, useState } from "react";
import type { Metric, RuleReport, Schemas } from "@/shared/api/client";
import { useBaskets, useScreens, useTray } from "@/shared/api/queries";
import { count, number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { RuleCard } from "./RuleCard";
import { RuleText } from "./RuleText";
import { type Rule, rule } from "./state";
import type { Things } from "./things";
import type { Held } from "./useStack";

/** The rules beside the results: each with what it cuts into and what it did. */
export function Stack({
  things,
  stack,
  reports,
  universe,
  names,
  metrics,
  children,
}: {
  things: Things;
  stack: Held;
  reports: (RuleReport | undefined)[];
  universe: number | null;
  names: Metric[];
  metrics: Map<string, Metric>;
  /** What the screen is called, and what can be done with it. */
  children: ReactNode;
}) {
  const list = useRef<HTMLDivElement>(null);
  const add = useRef<HTMLDivElement>(null);
  const { current: screen, change: onChange, move: onMove } = stack;
  const { rules } = screen;
  // After a change of the rules the card that it was about is focused, once it stands where it shall.
  const goal = useRef<number | null>(null);
  // A rule that was added is brought into view and marked, while the hand stays where it writes.
  const [came, setCame] = useState<number | null>(null);
  // Its card grows when its report comes, and is looked at whole then.
  const cameWith = came === null ? undefined : reports[came]?.kind;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once when it comes and once when it has grown
  useEffect(() => {
    if (came === null) return;
    list.current?.querySelector<HTMLElement>(`[data-rule="${came}"]`)?.scrollIntoView({ block: "nearest" });
    const timer = setTimeout(() => setCame(null), 2500);
    return () => clearTimeout(timer);
  }, [came, cameWith]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: looked at when the rules have changed
  useEffect(() => {
    if (goal.current === null) return;
    list.current?.querySelector<HTMLElement>(`[data-rule="${goal.current}"]`)?.focus();
    goal.current = null;
  }, [rules]);
  const put = (next: Rule[]) => onChange({ rules: next, anyGroups: groupsOf(next, screen.anyGroups) });
  useKeys({
    a: () => add.current?.querySelector("textarea")?.focus(),
    e: () => list.current?.querySelector<HTMLElement>(".rule")?.focus(),
  });

  const actionsOf = (place: number) => ({
    move: (text: string) => onMove(place, text),
    change: (changes: Partial<Rule>) => put(rules.map((r, i) => (i === place ? { ...r, ...changes } : r))),
    split: (parts: string[]) =>
      put(rules.flatMap((r, i) => (i === place ? parts.map((text) => ({ ...r, text })) : [r]))),
    place: (by: -1 | 1) => {
      const to = place + by;
      const moved = rules[place];
      const other = rules[to];
      if (!moved || !other) return;
      const next = [...rules];
      next[place] = other;
      next[to] = moved;
      // A rule that leaves its group's ground leaves the group.
      if (moved.group !== null && other.group !== moved.group) next[to] = { ...moved, group: null };
      goal.current = to;
      put(next);
    },
    join: () => {
      const above = rules[place - 1];
      if (!above) return;
      const taken = new Set(rules.map((r) => r.group));
      const group = above.group ?? [...Array(20).keys()].map((n) => n + 1).find((n) => !taken.has(n)) ?? null;
      const next = rules.map((r, i) => (i === place || i === place - 1 ? { ...r, group } : r));
      const any = group !== null && above.group === null ? [...screen.anyGroups, group] : screen.anyGroups;
      onChange({ rules: next, anyGroups: groupsOf(next, any) });
    },
    leave: () => put(rules.map((r, i) => (i === place ? { ...r, group: null } : r))),
    remove: () => {
      goal.current = Math.min(place, rules.length - 2);
      put(rules.filter((_, i) => i !== place));
    },
  });

  const parts = byGroup(rules);
  const card = (place: number) => {
    const report = reports[place];
    return (
      <RuleCard
        // A rule keeps its card while its edges move, and when its report comes: what is open in it stays open.
        key={`${place}-${withoutEdges(rules[place]?.text ?? "")}`}
        rule={rules[place] as Rule}
        report={report}
        metric={report?.metric ? metrics.get(report.metric) : undefined}
        place={place}
        last={place === rules.length - 1}
        came={place === came}
        names={names}
        things={things}
        actions={actionsOf(place)}
      />
    );
  };
  const open = rules.some((_, i) => reports[i]?.takes_part && reports[i]?.kind !== "condition");
  return (
    <section className="stack" aria-label="Rules">
      {children}
      <div className="stack-universe">
        <Universe
          value={screen.universe}
          survivors={things.table === "structures"}
          onChange={(value) => onChange({ universe: value })}
        />
        <span
          className="survivors"
          title={
            things.table === "names"
              ? "Optionable names in this universe"
              : `${things.many} of the names in this universe`
          }
        >
          {universe === null ? "" : number(universe)}
        </span>
      </div>
      <h2 className="visually-hidden">Rules</h2>
      <div className="stack-rules" ref={list}>
        {parts.map((part) =>
          part.group === null ? (
            card(part.places[0] as number)
          ) : (
            <div key={`g${part.group}`} className="rule-group">
              <button
                type="button"
                className="quiet"
                title="Change between any and all"
                onClick={() =>
                  onChange({
                    anyGroups: screen.anyGroups.includes(part.group as number)
                      ? screen.anyGroups.filter((g) => g !== part.group)
                      : [...screen.anyGroups, part.group as number],
                  })
                }
              >
                {screen.anyGroups.includes(part.group) ? "any one of" : "all of"}
              </button>
              {part.places.map(card)}
            </div>
          ),
        )}
        {rules.length === 0 && <p className="muted hint">No rule: all survive. Add one below.</p>}
      </div>
      <div className="stack-add" ref={add}>
        <span className="visually-hidden" role="status">
          {came !== null && rules[came] ? `Rule ${came + 1} was added: ${rules[came]?.text}` : ""}
        </span>
        <RuleText
          text=""
          bars="day"
          names={names}
          things={things}
          label="Add a rule"
          placeholder="add a rule: a metric, or an expression   a"
          picks
          onDone={(text) => {
            if (!text || rules.length >= 60) return;
            put([...rules, rule(text)]);
            setCame(rules.length);
          }}
        />
        <div className="stack-tools">
          <Aim value={stack.aim} many={things.many} onAim={stack.setAim} />
          {open && (
            <button
              type="button"
              className="quiet"
              onClick={() =>
                put(
                  rules.map((r, i) => {
                    const report = reports[i];
                    return report && report.kind !== "condition" ? { ...r, text: report.subject } : r;
                  }),
                )
              }
            >
              open all rules
            </button>
          )}
        </div>
      </div>
    </section>
  );
}

function Aim({ value, many, onAim }: { value: number | null; many: string; onAim: (wanted: number | null) => void }) {
  return (
    <label className="aim-for" title={`Each rule then says which edge would leave this many ${many}`}>
      aim for{" "}
      <input
        className="edge-input"
        inputMode="numeric"
        aria-label={`Aim for a number of ${many}`}
        placeholder="any"
        maxLength={7}
        defaultValue={value ?? ""}
        key={value ?? ""}
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
        onBlur={(event) => {
          const wanted = Number(event.currentTarget.value);
          onAim(Number.isInteger(wanted) && wanted > 0 && wanted <= 2_000_000 ? wanted : null);
        }}
      />{" "}
      {many}
    </label>
  );
}

/** Where the names come from; of structures also the survivors of a screen. */
export function Universe({
  value,
  survivors,
  onChange,
}: {
  value: string;
  survivors: boolean;
  onChange: (value: string) => void;
}) {
  const baskets = useBaskets().data;
  const tray = useTray().data;
  const screens = useScreens().data;
  const sources = survivors && screens ? screenSources(screens) : [];
  const alone = value.startsWith("name:") ? value.slice(5) : null;
  return (
    <select aria-label="Universe" value={value} onChange={(event) => onChange(event.target.value)}>
      <option value="all">all names</option>
      <option value="stock">stocks</option>
      <option value="fund">funds</option>
      <option value="tray">the tray ({tray?.items.length ?? 0})</option>
      {alone && <option value={value}>{alone} alone</option>}
      {sources.length > 0 && (
        <optgroup label="Survivors of a screen">
          {sources.map(([source, name]) => (
            <option key={source} value={source}>
              {name}
            </option>
          ))}
        </optgroup>
      )}
      {baskets && baskets.own.length > 0 && (
        <optgroup label="Your baskets">
          {baskets.own.map((basket) => (
            <option key={basket.id} value={`basket:${basket.id}`}>
              {basket.name} ({basket.symbols.length})
            </option>
          ))}
        </optgroup>
      )}
      <optgroup label="Sectors">
        {baskets?.sectors.map((sector) => (
          <option key={sector.source} value={sector.source}>
            {sector.name} ({sector.names})
          </option>
        ))}
      </optgroup>
      <optgroup label="Members of a fund or index">
        {baskets?.funds.map((fund) => (
          <option key={fund.source} value={fund.source}>
            {fund.name} ({fund.names})
          </option>
        ))}
      </optgroup>
      {!alone && !known(value, baskets) && !sources.some(([source]) => source === value) && (
        <option value={value}>{value}</option>
      )}
    </select>
  );
}

/** Screens of names, saved and ready ones, as universes. */
export function screenSources({ saved, starters }: Schemas["ScreenList"]): [string, string][] {
  const names = (body: Schemas["ScreenBody"]) => (body.table ?? "names") === "names";
  return [
    ...saved.filter((one) => names(one.body)).map((one): [string, string] => [`screen:${one.id}`, one.name]),
    ...starters.filter((one) => names(one.body)).map((one): [string, string] => [`screen:s-${one.key}`, one.name]),
  ];
}

type Baskets = ReturnType<typeof useBaskets>["data"];

function known(value: string, baskets: Baskets): boolean {
  if (["all", "stock", "fund", "tray"].includes(value)) return true;
  return (
    baskets?.own.some((b) => `basket:${b.id}` === value) ||
    baskets?.sectors.some((s) => s.source === value) ||
    baskets?.funds.some((f) => f.source === value) ||
    false
  );
}

/** The universe in words, for the reason why a name goes to the tray. */
export function universeWords(value: string, baskets: Baskets): string {
  const fixed: Record<string, string> = { all: "all names", stock: "stocks", fund: "funds", tray: "the tray" };
  if (fixed[value]) return fixed[value];
  const own = baskets?.own.find((b) => `basket:${b.id}` === value);
  if (own) return `basket ${own.name}`;
  const [kind, rest] = value.split(":");
  if (kind === "screen") return "the survivors of a screen";
  return kind === "members" ? `members of ${rest}` : (rest ?? value);
}

/** A rule's text without the numbers it compares with: the same wherever its edges stand. */
const withoutEdges = (text: string) => text.replace(/(?<![A-Za-z_])-?\d+(\.\d+)?(e[+-]?\d+)?|[<>=\s]/gi, "");

function byGroup(rules: Rule[]): { group: number | null; places: number[] }[] {
  const out: { group: number | null; places: number[] }[] = [];
  rules.forEach((r, place) => {
    const last = out.at(-1);
    if (r.group !== null && last?.group === r.group) last.places.push(place);
    else out.push({ group: r.group, places: [place] });
  });
  return out;
}

/** Groups that still have rules; a group of one is none. */
function groupsOf(rules: Rule[], any: number[]): number[] {
  return any.filter((group) => rules.some((r) => r.group === group));
}

/** Which rule to loosen when nothing is left: the one whose dropping brings most names back. */
export function Narrowest({ reports, things }: { reports: RuleReport[]; things: Things }) {
  const best = reports.reduce<RuleReport | null>((a, b) => (b.lone_cut > (a?.lone_cut ?? 0) ? b : a), null);
  if (!best) return <p className="muted">No single rule does it: open two or more of them.</p>;
  const place = reports.indexOf(best) + 1;
  return (
    <p className="muted">
      Dropping only {best.label || `rule ${place}`} would bring back {count(best.lone_cut, things.one)}.
    </p>
  );
}
