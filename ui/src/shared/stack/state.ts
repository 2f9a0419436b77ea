import type { RuleReport, Schemas, ScreenBody, Why } from "@/shared/api/client";
import type { Things } from "./things";

export type Bars = "day" | "60" | "15" | "5";
export type Rule = { text: string; on: boolean; bars: Bars; group: number | null };
export type View = ScreenBody["view"] & string;

const VIEWS: View[] = ["table", "gallery", "map", "names", "tickets", "contracts", "day", "front"];

/** Which structures are made, and how they are weighed. */
export type Search = Required<Schemas["SearchBody"]>;

/** All that makes a screen; the address holds what differs from the screen it began with. */
export type Screen = {
  universe: string;
  rules: Rule[];
  anyGroups: number[];
  columns: string[];
  sort: string[];
  view: View;
  table: Things["table"];
  /** Of tickets: how many sessions back. */
  sessions: number;
  /** Of structures: which ones are made; null for all else. */
  search: Search | null;
};

/** What is searched for unless somebody says otherwise. */
export const USUAL_SEARCH: Search = {
  kinds: ["put_credit", "call_credit", "iron_condor"],
  least_days: 20,
  most_days: 60,
  label: "any",
  report: "any",
  measure: "delta",
  low: 0.1,
  high: 0.35,
  target: "",
  middle: 0.25,
  least_width: 0,
  most_width: 10,
  width_in: "dollars",
  balanced: true,
  later_low: 7,
  later_high: 45,
  entry: 0.3,
  scaled: false,
  front: ["chance_of_profit_past", "return_on_capital"],
  weights: [],
  at_most: null,
};

/** A number between two edges: what a hand can move. */
export type Range = {
  subject: string;
  lower: number | null;
  upper: number | null;
  lowerOpen: boolean;
  upperOpen: boolean;
};

export const BARS: { value: Bars; label: string }[] = [
  { value: "day", label: "daily bars" },
  { value: "60", label: "60-minute bars" },
  { value: "15", label: "15-minute bars" },
  { value: "5", label: "5-minute bars" },
];

export const rule = (text: string): Rule => ({ text, on: true, bars: "day", group: null });

export function fromBody(body: ScreenBody): Screen {
  return {
    universe: body.universe ?? "all",
    rules: (body.rules ?? []).map((r) => ({
      text: r.text,
      on: r.on ?? true,
      bars: r.bars ?? "day",
      group: r.group ?? null,
    })),
    anyGroups: body.any_groups ?? [],
    columns: body.columns ?? [],
    sort: body.sort ?? [],
    view: body.view ?? "table",
    table: body.table ?? "names",
    sessions: body.sessions ?? 1,
    search: body.table === "structures" ? { ...USUAL_SEARCH, ...body.search } : null,
  };
}

export function toBody(screen: Screen): ScreenBody {
  return {
    universe: screen.universe,
    rules: screen.rules,
    any_groups: screen.anyGroups,
    columns: screen.columns,
    sort: screen.sort,
    view: screen.view,
    table: screen.table,
    sessions: screen.sessions,
    search: screen.search,
  };
}

// In the address a rule is a line; marks in front say what is not usual about it: #off #15 #g1 iv_rank >= 40
const MARK = /^#(off|60|15|5|g([1-9]|1\d|20))\s/;

export function writeRules(rules: Rule[]): string {
  const line = (r: Rule) =>
    [
      r.on ? "" : "#off ",
      r.bars === "day" ? "" : `#${r.bars} `,
      r.group === null ? "" : `#g${r.group} `,
      r.text.replace(/\s+/g, " ").trim(),
    ].join("");
  return rules.map(line).join("\n") || "-";
}

export function readRules(text: string): Rule[] {
  if (text === "-") return [];
  return text
    .split("\n")
    .slice(0, 60)
    .map((line) => {
      const out = rule("");
      let rest = line.trim();
      for (let mark = MARK.exec(rest); mark; mark = MARK.exec(rest)) {
        const word = mark[1] ?? "";
        if (word === "off") out.on = false;
        else if (word.startsWith("g")) out.group = Number(word.slice(1));
        else out.bars = word as Bars;
        rest = rest.slice(mark[0].length).trimStart();
      }
      return { ...out, text: rest.slice(0, 1001) };
    })
    .filter((r) => r.text !== "");
}

/** The screen in an address that began as `base`. */
export function readScreen(params: URLSearchParams, base: Screen): Screen {
  const list = (key: string, usual: string[]) => {
    const text = params.get(key);
    return text === null ? usual : text.split("\n").filter((part) => part !== "" && part !== "-");
  };
  const view = params.get("view");
  const rules = params.get("r");
  return {
    universe: params.get("u") ?? base.universe,
    rules: rules === null ? base.rules : readRules(rules),
    anyGroups: list("any", base.anyGroups.map(String)).map(Number).filter(Number.isInteger),
    columns: list("cols", base.columns).slice(0, 40),
    sort: list("sort", base.sort)
      .filter((key) => key.length <= 80)
      .slice(0, 2),
    view: VIEWS.find((known) => known === view) ?? base.view,
    table: base.table,
    sessions: sessionsOf(params.get("days")) ?? base.sessions,
    search: base.search && readSearch(params.get("q"), base.search),
  };
}

/** A search that an address says differs from `base`; what it says wrongly is as in `base`. */
function readSearch(text: string | null, base: Search): Search {
  if (text === null) return base;
  try {
    const told: unknown = JSON.parse(text);
    if (typeof told !== "object" || told === null || Array.isArray(told)) return base;
    const known = Object.entries(told).filter(([key, value]) => {
      const usual = USUAL_SEARCH[key as keyof Search];
      return key in USUAL_SEARCH && (usual === null ? typeof value === "object" : alike(usual, value));
    });
    return { ...base, ...Object.fromEntries(known) };
  } catch {
    return base;
  }
}

const alike = (a: unknown, b: unknown) => typeof a === typeof b && Array.isArray(a) === Array.isArray(b);

/** What of a search differs from another one. */
function searchChanges(search: Search, base: Search): string | null {
  const changed = Object.entries(search).filter(
    ([key, value]) => JSON.stringify(value) !== JSON.stringify(base[key as keyof Search]),
  );
  return changed.length > 0 ? JSON.stringify(Object.fromEntries(changed)) : null;
}

const sessionsOf = (text: string | null) => (text !== null && /^[1-5]$/.test(text) ? Number(text) : null);

/** Parameters of the address that belong to one screen. */
export const OWN_PARAMS = {
  screen: null,
  u: null,
  r: null,
  any: null,
  cols: null,
  sort: null,
  view: null,
  days: null,
  q: null,
};

/** What the address must hold so that it reads as `screen`; what is as in `base` is left out. */
export function writeScreen(screen: Screen, base: Screen): Record<string, string | null> {
  const differs = (a: unknown, b: unknown) => JSON.stringify(a) !== JSON.stringify(b);
  const list = (values: (string | number)[]) => values.join("\n") || "-";
  return {
    u: differs(screen.universe, base.universe) ? screen.universe : null,
    r: differs(screen.rules, base.rules) ? writeRules(screen.rules) : null,
    any: differs(screen.anyGroups, base.anyGroups) ? list(screen.anyGroups) : null,
    cols: differs(screen.columns, base.columns) ? list(screen.columns) : null,
    sort: differs(screen.sort, base.sort) ? list(screen.sort) : null,
    view: differs(screen.view, base.view) ? screen.view : null,
    days: differs(screen.sessions, base.sessions) ? String(screen.sessions) : null,
    q: screen.search && base.search && searchChanges(screen.search, base.search),
  };
}

export const isChanged = (screen: Screen, base: Screen): boolean =>
  Object.values(writeScreen(screen, base)).some((value) => value !== null);

/** The text of a range: 15 <= price <= 250, or the bare number when both edges are open. */
export function rangeText(range: Range): string {
  const { subject, lower, upper } = range;
  const low = lower === null ? "" : `${range.lowerOpen ? "<" : "<="}`;
  const high = upper === null ? "" : `${range.upperOpen ? "<" : "<="}`;
  if (lower !== null && upper !== null) return `${plain(lower)} ${low} ${subject} ${high} ${plain(upper)}`;
  if (lower !== null) return `${subject} ${range.lowerOpen ? ">" : ">="} ${plain(lower)}`;
  if (upper !== null) return `${subject} ${high} ${plain(upper)}`;
  return subject;
}

/** Digits that the rule language reads: no exponent that it would not need. */
function plain(value: number): string {
  const text = String(value);
  return text.includes("e") ? value.toFixed(Math.abs(value) < 1 ? 12 : 0) : text;
}

export function choiceText(subject: string, values: string[] | null): string {
  if (values === null) return subject;
  const quoted = values.map((value) => JSON.stringify(value));
  return `${subject} in (${quoted.join(", ")}${quoted.length === 1 ? "," : ""})`;
}

export function rangeOf(report: RuleReport): Range {
  return {
    subject: report.subject,
    lower: report.lower,
    upper: report.upper,
    lowerOpen: report.lower_open,
    upperOpen: report.upper_open,
  };
}

const NUMBER = /^[+-]?(\d{1,15}(\.\d{0,12})?|\.\d{1,12})(e[+-]?\d{1,2})?$/i;
const SUFFIX: Record<string, number> = { k: 1e3, m: 1e6, b: 1e9, t: 1e12 };

/** A number as people write it: 1,200 or 1.2B; null when the text is empty, undefined when it is no number. */
export function readNumber(text: string): number | null | undefined {
  const clean = text.trim().replaceAll(",", "").replaceAll("−", "-");
  if (!clean) return null;
  const suffix = SUFFIX[clean.slice(-1).toLowerCase()];
  const digits = suffix ? clean.slice(0, -1).trim() : clean;
  if (!NUMBER.test(digits)) return undefined;
  // Powers of ten times a decimal leave dust behind; no edge needs more than twelve digits.
  const value = Number((Number(digits) * (suffix ?? 1)).toPrecision(12));
  return Math.abs(value) <= 1e15 ? value : undefined;
}

/** Why names of a screen go to the tray: the rules in words, and the way back. */
export function reasonFor(
  screen: Screen,
  things: Things,
  name: string | null,
  universe: string,
  link: string,
): Pick<Why, "page" | "words" | "link"> {
  const rules = screen.rules.filter((r) => r.on && !/^[a-z_0-9]+$/.test(r.text)).map((r) => r.text);
  const words = [name, universe, ...rules].filter(Boolean).join(" · ");
  return { page: things.title, words: words.slice(0, 600), link: link.length <= 1500 ? link : "" };
}
