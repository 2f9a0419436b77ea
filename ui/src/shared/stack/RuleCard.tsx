import { type KeyboardEvent, type ReactNode, useEffect, useRef, useState } from "react";
import Dropdown from "react-bootstrap/Dropdown";
import type { Metric, RuleReport } from "@/shared/api/client";
import { compact, metricText, number } from "@/shared/format";
import { Definition } from "@/shared/ui/Definition";
import { RangeHistogram } from "./RangeHistogram";
import { RuleText } from "./RuleText";
import { BARS, type Bars, choiceText, type Range, type Rule, rangeOf, rangeText, readNumber } from "./state";
import type { Things } from "./things";

export type RuleActions = {
  /** While an edge moves; the address waits until it is let go. */
  move: (text: string) => void;
  change: (changes: Partial<Rule>) => void;
  split: (parts: string[]) => void;
  place: (by: -1 | 1) => void;
  join: () => void;
  leave: () => void;
  remove: () => void;
};

/** One rule: its words, what it cuts into, and what it did. */
export function RuleCard({
  rule,
  report,
  metric,
  place,
  last,
  came,
  names,
  things,
  actions,
}: {
  rule: Rule;
  report: RuleReport | undefined;
  metric: Metric | undefined;
  place: number;
  last: boolean;
  /** It was added just now. */
  came: boolean;
  names: Metric[];
  things: Things;
  actions: RuleActions;
}) {
  const [typing, setTyping] = useState(false);
  const card = useRef<HTMLElement>(null);
  const error = report?.error ?? null;
  const takesPart = report?.takes_part ?? false;
  const label = report?.label || rule.text;
  const kind = error || !report ? "condition" : report.kind;

  function key(event: KeyboardEvent<HTMLElement>) {
    if (event.target !== card.current) return;
    if (event.altKey && (event.key === "ArrowUp" || event.key === "ArrowDown"))
      actions.place(event.key === "ArrowUp" ? -1 : 1);
    else if (event.key === "ArrowUp") (card.current?.previousElementSibling as HTMLElement | null)?.focus();
    else if (event.key === "ArrowDown") (card.current?.nextElementSibling as HTMLElement | null)?.focus();
    else if (event.key === "Delete" || event.key === "Backspace") actions.remove();
    else if (event.key === " ") actions.change({ on: !rule.on });
    else if (event.key === "Enter") setTyping(true);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  const marks = [
    "rule",
    came ? "came" : "",
    takesPart ? "set" : "",
    rule.on ? "" : "off",
    rule.group === null ? "" : "grouped",
  ];
  return (
    <section
      ref={card}
      className={marks.filter(Boolean).join(" ")}
      aria-label={`Rule ${place + 1}: ${rule.text}`}
      data-rule={place}
      data-metric={report?.metric ?? undefined}
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a card is walked to, moved and removed with keys
      tabIndex={0}
      onKeyDown={key}
    >
      <div className="rule-head">
        {kind === "condition" ? (
          <button type="button" className="rule-words" title="Edit the text" onClick={() => setTyping(true)}>
            {rule.text}
          </button>
        ) : (
          <Subject metric={metric} label={metric?.short ?? label} unit={metric?.unit ?? report?.unit ?? ""} />
        )}
        {rule.bars !== "day" && <span className="bars">{rule.bars} min</span>}
        {kind === "range" && report && (
          <Edges report={report} onDone={(range) => actions.change({ text: rangeText(range) })} />
        )}
        <span className="survivors" title={`${things.many} left after this rule`}>
          {report && takesPart ? number(report.survivors) : ""}
        </span>
        <Menu
          rule={rule}
          report={report}
          place={place}
          last={last}
          shorter={things.table === "names"}
          actions={actions}
          onType={() => setTyping(true)}
        />
      </div>
      {typing && (
        <RuleText
          text={rule.text}
          bars={rule.bars}
          names={names}
          things={things}
          label={`Text of rule ${place + 1}`}
          onDone={(text) => {
            setTyping(false);
            if (text !== null) actions.change({ text });
            card.current?.focus();
          }}
        />
      )}
      {kind === "range" && report?.histogram && (
        <RangeHistogram
          report={report}
          range={rangeOf(report)}
          histogram={report.histogram}
          aimed={report.aim}
          onMove={(range) => actions.move(rangeText(range))}
          onDone={(range) => actions.change({ text: rangeText(range) })}
        />
      )}
      {kind === "choice" && report && (
        <Choices report={report} onDone={(values) => actions.change({ text: choiceText(report.subject, values) })} />
      )}
      {error ? (
        <div className="rule-foot">
          <span className="rule-error" role="alert">
            {error.message} <span className="muted">Until then this rule cuts nothing.</span>
            {error.nearest.map((name) => (
              <button
                key={name}
                type="button"
                className="quiet"
                onClick={() =>
                  actions.change({ text: rule.text.slice(0, error.start) + name + rule.text.slice(error.end) })
                }
              >
                {name}
              </button>
            ))}
          </span>
        </div>
      ) : (
        <Foot rule={rule} report={report} many={things.many} actions={actions} />
      )}
    </section>
  );
}

function Subject({ metric, label, unit }: { metric: Metric | undefined; label: string; unit: string }) {
  const shown = (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: the definition shows on focus
    <h3 tabIndex={0} title={metric ? undefined : label}>
      {label} <span className="unit">{unit === "0–100" ? "" : unit}</span>
    </h3>
  );
  return metric ? <Definition metric={metric}>{shown}</Definition> : shown;
}

function Foot({
  rule,
  report,
  many,
  actions,
}: {
  rule: Rule;
  report: RuleReport | undefined;
  many: string;
  actions: RuleActions;
}) {
  if (!report) return <div className="rule-foot" />;
  const set = report.takes_part;
  const parts = [
    set ? `−${number(report.reached - report.survivors)}` : null,
    set && report.missing > 0 ? `${number(report.missing)} lost, no data` : null,
    set && report.lone_cut > 0 ? `lone cut ${number(report.lone_cut)}` : null,
    set && report.lone_cut < 0 ? `brings ${number(-report.lone_cut)} in` : null,
    !set && report.unknown > 0 ? `${number(report.unknown)} without a value` : null,
    !rule.on ? "switched off" : null,
  ];
  return (
    <div className="rule-foot">
      <span
        title={`Cut by this step · of these, lost because data is missing · lone cut: ${many} that would come back if only this rule were dropped`}
      >
        {parts.filter(Boolean).join(" · ")}
      </span>
      {report.aim.map((edge) => (
        <button
          key={edge.edge}
          type="button"
          className="quiet aim"
          onClick={() =>
            actions.change({
              text: rangeText({ ...rangeOf(report), [edge.edge]: edge.value, [`${edge.edge}Open`]: false }),
            })
          }
        >
          {edge.value === null
            ? "open"
            : `${edge.edge === "lower" ? "≥" : "≤"} ${metricText(report.unit, decimalsOf(edge.value, report.decimals), edge.value)}`}{" "}
          → {number(edge.names)}
        </button>
      ))}
      {report.parts.length > 1 && (
        <button type="button" className="quiet" onClick={() => actions.split(report.parts)}>
          split into {report.parts.length} rules
        </button>
      )}
      {set && report.kind !== "condition" && (
        <button
          type="button"
          className="quiet"
          aria-label={`Open the rule on ${report.label}`}
          onClick={() => actions.change({ text: report.subject })}
        >
          open
        </button>
      )}
    </div>
  );
}

function decimalsOf(value: number, usual: number): number {
  const text = String(value);
  const digits = text.includes("e") ? usual : (text.split(".")[1]?.length ?? 0);
  return Math.max(usual, digits);
}

function Edges({ report, onDone }: { report: RuleReport; onDone: (range: Range) => void }) {
  const [refused, setRefused] = useState<string | null>(null);
  const range = rangeOf(report);
  function type(edge: "lower" | "upper", text: string): boolean {
    const value = readNumber(text);
    if (value === undefined) {
      setRefused(`“${text.slice(0, 20)}” is not a number. Write it like 12.5, 800k or 1.2B.`);
      return false;
    }
    const next = { ...range, [edge]: value, [`${edge}Open`]: false };
    if (next.lower !== null && next.upper !== null && next.lower > next.upper) {
      setRefused(`The lower edge ${compact(next.lower)} is above the upper edge ${compact(next.upper)}. Swap them.`);
      return false;
    }
    setRefused(null);
    if (value !== range[edge]) onDone(next);
    return true;
  }
  return (
    <>
      <EdgeInput report={report} edge="lower" onType={type} />
      <span className="to">to</span>
      <EdgeInput report={report} edge="upper" onType={type} />
      {refused && (
        <span className="rule-error edge-error" role="alert">
          {refused}
        </span>
      )}
    </>
  );
}

function EdgeInput({
  report,
  edge,
  onType,
}: {
  report: RuleReport;
  edge: "lower" | "upper";
  onType: (edge: "lower" | "upper", text: string) => boolean;
}) {
  const value = report[edge];
  const shown = value === null ? "" : report.scale === "log" && value >= 10_000 ? compact(value) : String(value);
  const [text, setText] = useState(shown);
  const [wrong, setWrong] = useState(false);
  useEffect(() => {
    setText(shown);
    setWrong(false);
  }, [shown]);
  // What was typed stays as it was typed until it is a range again.
  const commit = () => text !== shown && setWrong(!onType(edge, text));
  return (
    <input
      className={wrong ? "edge-input wrong" : "edge-input"}
      value={text}
      placeholder="any"
      aria-label={`${report.label}, ${edge} edge${report.unit ? ` in ${report.unit}` : ""}`}
      aria-invalid={wrong}
      title={value === null ? "open" : metricText(report.unit, report.decimals, value)}
      inputMode="decimal"
      maxLength={24}
      onFocus={(event) => event.target.select()}
      onChange={(event) => setText(event.target.value)}
      onBlur={commit}
      onKeyDown={(event) => {
        if (event.key === "Enter") commit();
        if (event.key === "Escape") {
          setText(shown);
          setWrong(false);
          onType(edge, shown);
        }
      }}
    />
  );
}

/** A category: its values with how many names that reached the rule have each, to be ticked. */
function Choices({ report, onDone }: { report: RuleReport; onDone: (values: string[] | null) => void }) {
  const kept = report.values;
  const choices = report.choices ?? [];
  function toggle(value: string) {
    if (kept === null) return onDone([value]);
    const next = kept.includes(value) ? kept.filter((v) => v !== value) : [...kept, value];
    onDone(next.length === 0 || next.length === choices.length ? null : next);
  }
  return (
    <ul className="choices">
      {choices.map((choice) => (
        <li key={choice.value}>
          <label>
            <input
              type="checkbox"
              checked={kept?.includes(choice.value) ?? false}
              onChange={() => toggle(choice.value)}
            />
            <span>{choice.value}</span>
            <b>{number(choice.count)}</b>
          </label>
        </li>
      ))}
    </ul>
  );
}

function Menu({
  rule,
  report,
  place,
  last,
  shorter,
  actions,
  onType,
}: {
  rule: Rule;
  report: RuleReport | undefined;
  place: number;
  last: boolean;
  /** It may be put on shorter bars. */
  shorter: boolean;
  actions: RuleActions;
  onType: () => void;
}) {
  const item = (label: ReactNode, run: () => void, disabled = false) => (
    <Dropdown.Item as="button" type="button" disabled={disabled} onClick={run}>
      {label}
    </Dropdown.Item>
  );
  return (
    <Dropdown align="end" className="rule-menu">
      <Dropdown.Toggle as="button" className="quiet" aria-label={`What to do with rule ${place + 1}`}>
        ⋯
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {item("edit as text", onType)}
        {item(rule.on ? "switch off" : "switch on", () => actions.change({ on: !rule.on }))}
        {item("move up", () => actions.place(-1), place === 0)}
        {item("move down", () => actions.place(1), last)}
        {report &&
          report.parts.length > 1 &&
          item(`split into ${report.parts.length} rules`, () => actions.split(report.parts))}
        {rule.group === null
          ? item("any one of this and the rule above", actions.join, place === 0)
          : item("take out of its group", actions.leave)}
        {shorter && <Dropdown.Divider />}
        {(shorter ? BARS : []).map(({ value, label }) => (
          <Dropdown.Item
            as="button"
            type="button"
            key={value}
            className={rule.bars === value ? "active" : undefined}
            aria-pressed={rule.bars === value}
            onClick={() => actions.change({ bars: value as Bars })}
          >
            on {label}
          </Dropdown.Item>
        ))}
        <Dropdown.Divider />
        {item("remove", actions.remove)}
      </Dropdown.Menu>
    </Dropdown>
  );
}
