import { useState } from "react";
import { useStructureKinds } from "@/shared/api/queries";
import { number } from "@/shared/format";
import { readNumber, type Search } from "@/shared/stack/state";

const TARGETS: [string, string][] = [
  ["", "the price"],
  ["month_anchor + month_half_width", "the month's upper edge"],
  ["month_anchor - month_half_width", "the month's lower edge"],
  ["week_anchor + week_half_width", "the week's upper edge"],
  ["week_anchor - week_half_width", "the week's lower edge"],
  ["shelf_above", "the nearest shelf above"],
  ["shelf_below", "the nearest shelf below"],
  ["line_above_price", "the nearest own line above"],
  ["line_below_price", "the nearest own line below"],
  ["peak_interest_strike", "the strike with most open interest"],
];

/** Which structures are made: told in a sentence, and changed where it is unfolded. */
export function SearchForm({
  search,
  open,
  onOpen,
  onChange,
}: {
  search: Search;
  open: boolean;
  onOpen: (open: boolean) => void;
  onChange: (changes: Partial<Search>) => void;
}) {
  const kinds = useStructureKinds().data?.kinds ?? [];
  const labels = new Map(kinds.map((kind) => [kind.key, kind.label]));
  const chosen = search.kinds.map((key) => labels.get(key) ?? key);
  const aimed = search.target.trim() !== "";
  const lasting = kinds.some((kind) => kind.later && search.kinds.includes(kind.key));
  const middle = kinds.some((kind) => kind.middle && search.kinds.includes(kind.key));
  const wide = kinds.some((kind) => kind.wide && search.kinds.includes(kind.key));
  return (
    <section className="search-form" aria-label="What is made">
      <p>
        <span>{sentence(search, chosen)}</span>{" "}
        <button type="button" className="quiet" aria-expanded={open} onClick={() => onOpen(!open)}>
          {open ? "fold up" : "change (f)"}
        </button>
      </p>
      {open && (
        <div className="search-fields">
          <Kinds chosen={search.kinds} kinds={kinds} onChange={(next) => onChange({ kinds: next })} />
          <div className="search-rows">
            <Field label="Expirations">
              <Span
                label="days"
                low={search.least_days}
                high={search.most_days}
                whole
                onChange={(least_days, most_days) => onChange({ least_days, most_days })}
              />{" "}
              days,{" "}
              <Choice
                label="Which expirations"
                value={search.label}
                values={[
                  ["any", "weekly and monthly"],
                  ["weekly", "weekly ones"],
                  ["monthly", "monthly ones"],
                ]}
                onChange={(label) => onChange({ label })}
              />{" "}
              <Choice
                label="Before or after the next report"
                value={search.report}
                values={[
                  ["any", "whenever the report is"],
                  ["before", "that end before the report"],
                  ["after", "with the report inside"],
                ]}
                onChange={(report) => onChange({ report })}
              />
            </Field>
            <Field label="Strikes">
              <Span
                label="strikes"
                low={search.low}
                high={search.high}
                onChange={(low, high) => onChange({ low, high })}
              />{" "}
              <Choice
                label="How strikes are counted"
                value={search.measure}
                values={
                  aimed
                    ? [
                        ["percent", "%"],
                        ["moves", "expected moves"],
                      ]
                    : [
                        ["delta", "delta"],
                        ["percent", "% out of the money"],
                        ["moves", "expected moves out"],
                      ]
                }
                onChange={(measure) => onChange({ measure, ...usualStrikes(measure) })}
              />{" "}
              from <Target value={search.target} onChange={(target) => onChange(towards(target, search))} />
              {middle && (
                <>
                  ; middles within{" "}
                  <Num label="Middle" value={search.middle} onChange={(value) => onChange({ middle: value })} /> σ of it
                </>
              )}
            </Field>
            {wide && (
              <Field label="Widths">
                <Span
                  label="widths"
                  low={search.least_width}
                  high={search.most_width}
                  onChange={(least_width, most_width) => onChange({ least_width, most_width })}
                />{" "}
                <Choice
                  label="Widths in"
                  value={search.width_in}
                  values={[
                    ["dollars", "$"],
                    ["percent", "% of the price"],
                  ]}
                  onChange={(width_in) => onChange({ width_in })}
                />{" "}
                <label>
                  <input
                    type="checkbox"
                    checked={search.balanced}
                    onChange={(event) => onChange({ balanced: event.target.checked })}
                  />{" "}
                  wings of one width
                </label>
              </Field>
            )}
            {lasting && (
              <Field label="Later leg">
                <Span
                  label="days between"
                  low={search.later_low}
                  high={search.later_high}
                  whole
                  onChange={(later_low, later_high) => onChange({ later_low, later_high })}
                />{" "}
                days after the nearer one
              </Field>
            )}
            <Field label="Entry">
              <Num
                label="Entry"
                value={Math.round(100 * search.entry)}
                onChange={(value) => onChange({ entry: Math.min(1, Math.max(0, value / 100)) })}
              />{" "}
              % of the way from mid to the worst side of every leg;{" "}
              <label>
                <input
                  type="checkbox"
                  checked={search.scaled}
                  onChange={(event) => onChange({ scaled: event.target.checked })}
                />{" "}
                the past at the forecast’s spread
              </label>
            </Field>
            <Field label="Of a list">
              <Choice
                label="At most so many of each"
                value={search.at_most ? `${search.at_most.of}` : "all"}
                values={[
                  ["all", "all that survive"],
                  ["name", "at most so many of a name"],
                  ["sector", "at most so many of a sector"],
                  ["together", "at most so many of names that move together"],
                ]}
                onChange={(of) =>
                  onChange({ at_most: of === "all" ? null : { of, count: search.at_most?.count ?? 1 } })
                }
              />{" "}
              {search.at_most && (
                <Num
                  label="At most"
                  value={search.at_most.count ?? 1}
                  onChange={(value) =>
                    search.at_most &&
                    onChange({ at_most: { ...search.at_most, count: Math.max(1, Math.round(value)) } })
                  }
                />
              )}
            </Field>
            <Weights search={search} onChange={onChange} />
          </div>
        </div>
      )}
    </section>
  );
}

const usualStrikes = (measure: Search["measure"]): Partial<Search> =>
  measure === "delta" ? { low: 0.1, high: 0.35 } : measure === "percent" ? { low: 0, high: 5 } : { low: 0, high: 1.5 };

/** A search that counts from another place; by delta nothing is counted from a target. */
const towards = (target: string, search: Search): Partial<Search> =>
  target.trim() !== "" && search.measure === "delta" ? { target, measure: "percent", low: 0, high: 2 } : { target };

function sentence(search: Search, kinds: string[]): string {
  const what = kinds.length === 0 ? "Nothing: choose a kind" : listed(kinds);
  const days = `${search.least_days}–${search.most_days} days`;
  const label = search.label === "any" ? "" : ` ${search.label}`;
  const report = { any: "", before: ", before the report", after: ", report inside" }[search.report];
  const from = TARGETS.find(([text]) => text === search.target)?.[1] ?? search.target;
  const measure =
    search.measure === "delta"
      ? `delta ${number(search.low, 2)}–${number(search.high, 2)}`
      : `${plain(search.low)}–${plain(search.high)} ${search.measure === "percent" ? "%" : "σ"} from ${from}`;
  const width = `width to ${search.width_in === "dollars" ? "$" : ""}${plain(search.most_width)}${search.width_in === "percent" ? " %" : ""}`;
  return `${what} · ${days}${label}${report} · ${measure} · ${width} · entry ${Math.round(100 * search.entry)} % from mid`;
}

const plain = (value: number) => String(Number(value.toPrecision(6))).replace("-", "−");

function listed(words: string[]): string {
  const low = words.map((word, i) => (i === 0 ? word : word[0]?.toLowerCase() + word.slice(1)));
  return low.length > 3 ? `${low.slice(0, 2).join(", ")} and ${low.length - 2} kinds more` : low.join(", ");
}

function Field({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <div className="search-row">
      <span className="search-label">{label}</span>
      <span>{children}</span>
    </div>
  );
}

function Choice<Value extends string>({
  label,
  value,
  values,
  onChange,
}: {
  label: string;
  value: Value;
  values: [Value, string][];
  onChange: (value: Value) => void;
}) {
  return (
    <select aria-label={label} value={value} onChange={(event) => onChange(event.target.value as Value)}>
      {values.map(([key, words]) => (
        <option key={key} value={key}>
          {words}
        </option>
      ))}
    </select>
  );
}

/** A number that is taken when the hand leaves it. */
export function Num({
  label,
  value,
  onChange,
}: {
  label: string;
  value: number | null;
  onChange: (value: number) => void;
}) {
  return (
    <input
      className="edge-input"
      inputMode="decimal"
      aria-label={label}
      maxLength={12}
      key={value ?? ""}
      defaultValue={value === null ? "" : String(Number(value.toPrecision(8)))}
      onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      onBlur={(event) => {
        const next = readNumber(event.currentTarget.value);
        if (next === undefined || next === null) event.currentTarget.value = value === null ? "" : String(value);
        else if (next !== value) onChange(next);
      }}
    />
  );
}

function Span({
  label,
  low,
  high,
  whole = false,
  onChange,
}: {
  label: string;
  low: number;
  high: number;
  whole?: boolean;
  onChange: (low: number, high: number) => void;
}) {
  const round = (value: number) => (whole ? Math.max(0, Math.round(value)) : value);
  return (
    <>
      <Num label={`Lowest ${label}`} value={low} onChange={(v) => onChange(round(v), Math.max(round(v), high))} /> to{" "}
      <Num label={`Highest ${label}`} value={high} onChange={(v) => onChange(Math.min(low, round(v)), round(v))} />
    </>
  );
}

/** What strikes are counted from: the price, a price that Flinch knows of each name, or any expression. */
function Target({ value, onChange }: { value: string; onChange: (target: string) => void }) {
  const own = !TARGETS.some(([text]) => text === value);
  const [writing, setWriting] = useState(own);
  return (
    <>
      <select
        aria-label="What strikes are counted from"
        value={writing || own ? "own" : value}
        onChange={(event) => {
          setWriting(event.target.value === "own");
          if (event.target.value !== "own") onChange(event.target.value);
        }}
      >
        {TARGETS.map(([text, words]) => (
          <option key={text} value={text}>
            {words}
          </option>
        ))}
        <option value="own">a price or expression …</option>
      </select>
      {(writing || own) && (
        <input
          aria-label="Target"
          placeholder="125, or an expression"
          maxLength={200}
          key={value}
          defaultValue={own ? value : ""}
          onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
          onBlur={(event) => event.currentTarget.value.trim() && onChange(event.currentTarget.value.trim())}
        />
      )}
    </>
  );
}

function Kinds({
  chosen,
  kinds,
  onChange,
}: {
  chosen: string[];
  kinds: { key: string; label: string; legs: string[] }[];
  onChange: (kinds: string[]) => void;
}) {
  return (
    <fieldset className="search-kinds">
      <legend className="visually-hidden">Kinds of structures</legend>
      {kinds.map((kind) => (
        <label key={kind.key} title={kind.legs.join(", ")}>
          <input
            type="checkbox"
            checked={chosen.includes(kind.key)}
            onChange={() =>
              onChange(chosen.includes(kind.key) ? chosen.filter((key) => key !== kind.key) : [...chosen, kind.key])
            }
          />{" "}
          {kind.label}
        </label>
      ))}
    </fieldset>
  );
}

const WEIGHED: [string, string][] = [
  ["chance_of_profit_past", "chance of profit, past"],
  ["chance_of_profit_market", "chance of profit, market"],
  ["return_on_capital", "return on capital"],
  ["edge_forecast", "value over cost, forecast"],
  ["shortfall_past", "small shortfall"],
  ["-quoted_width_pct", "narrow market"],
];

/** An order by several things at once. */
function Weights({ search, onChange }: { search: Search; onChange: (changes: Partial<Search>) => void }) {
  const weightOf = (axis: string) => search.weights.find((weight) => weight.axis === axis)?.weight ?? 0;
  const put = (axis: string, weight: number) =>
    onChange({
      weights: [
        ...search.weights.filter((other) => other.axis !== axis),
        ...(weight > 0 ? [{ axis, weight: Math.min(100, weight) }] : []),
      ].slice(0, 6),
    });
  return (
    <Field label="Weighed by">
      {WEIGHED.map(([axis, words]) => (
        <span key={axis} className="weight">
          {words}{" "}
          <Num
            label={`Weight of ${words}`}
            value={weightOf(axis)}
            onChange={(value) => put(axis, Math.max(0, value))}
          />
        </span>
      ))}
      <span className="muted">
        {search.weights.length > 0
          ? "in this order, by standing among the survivors"
          : "no weight: by the column sorted"}
      </span>
    </Field>
  );
}
