import { useEffect, useState } from "react";
import type { Metric, Schemas } from "@/shared/api/client";
import { compact, metricText, number } from "@/shared/format";
import { Definition } from "@/shared/ui/Definition";
import { RangeHistogram } from "./RangeHistogram";
import { inverted, isOpen, notANumber, type Rule, readNumber } from "./rules";

/** One rule: its words, the distribution it cuts into with draggable edges, and what it did. */
export function RuleCard({
  metric,
  rule,
  report,
  onMove,
  onDone,
}: {
  metric: Metric;
  rule: Rule;
  report: Schemas["RuleReport"] | undefined;
  onMove: (rule: Rule) => void;
  onDone: (rule: Rule) => void;
}) {
  const [refused, setRefused] = useState<string | null>(null);
  const set = !isOpen(rule);
  const error = refused ?? rule.bad?.message ?? null;

  function type(edge: "lower" | "upper", text: string): boolean {
    const value = readNumber(text);
    if (value === undefined) {
      setRefused(notANumber(metric.short, text));
      return false;
    }
    const next: Rule = { metric: rule.metric, lower: rule.lower, upper: rule.upper, [edge]: value };
    if (next.lower !== null && next.upper !== null && next.lower > next.upper) {
      setRefused(inverted(metric.short, next.lower, next.upper));
      return false;
    }
    setRefused(null);
    if (next.lower !== rule.lower || next.upper !== rule.upper || rule.bad) onDone(next);
    return true;
  }

  const done = (next: Rule) => {
    setRefused(null);
    onDone(next);
  };
  const lost = report && report.missing > 0 ? `${number(report.missing)} lost, no data` : null;
  const alone = report && set && report.lone_cut > 0 ? `lone cut ${number(report.lone_cut)}` : null;
  const without = report && !set && report.unknown > 0 ? `${number(report.unknown)} without a value` : null;
  return (
    <section className={set ? "rule set" : "rule"} aria-label={`Rule on ${metric.label}`} data-metric={metric.key}>
      <div className="rule-head">
        <Definition metric={metric}>
          {/* biome-ignore lint/a11y/noNoninteractiveTabindex: the definition shows on focus */}
          <h3 tabIndex={0}>
            {metric.short} <span className="unit">{metric.unit === "0–100" ? "" : metric.unit}</span>
          </h3>
        </Definition>
        <EdgeInput metric={metric} rule={rule} edge="lower" onType={type} />
        <span className="to">to</span>
        <EdgeInput metric={metric} rule={rule} edge="upper" onType={type} />
        <span className="survivors" title="Names left after this rule">
          {report ? number(report.survivors) : ""}
        </span>
      </div>
      {report && (
        <RangeHistogram metric={metric} rule={rule} histogram={report.histogram} onMove={onMove} onDone={done} />
      )}
      <div className="rule-foot">
        {error ? (
          <span className="rule-error" role="alert">
            {error}
            {rule.bad && !refused && " Until then this rule cuts nothing."}
          </span>
        ) : (
          <span title="Cut by this rule · of these, lost because data is missing · lone cut: names that would come back if only this rule were dropped">
            {[set && report ? `−${number(report.reached - report.survivors)}` : null, lost, alone, without]
              .filter(Boolean)
              .join(" · ")}
          </span>
        )}
        {(set || rule.bad) && (
          <button
            type="button"
            className="quiet"
            aria-label={`Open the rule on ${metric.label}`}
            onClick={() => done({ metric: rule.metric, lower: null, upper: null })}
          >
            open
          </button>
        )}
      </div>
    </section>
  );
}

function EdgeInput({
  metric,
  rule,
  edge,
  onType,
}: {
  metric: Metric;
  rule: Rule;
  edge: "lower" | "upper";
  onType: (edge: "lower" | "upper", text: string) => boolean;
}) {
  const value = rule[edge];
  const shown = value === null ? "" : metric.scale === "log" && value >= 10_000 ? compact(value) : String(value);
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
      aria-label={`${metric.label}, ${edge} edge in ${metric.unit}`}
      aria-invalid={wrong}
      title={value === null ? "open" : metricText(metric.unit, metric.decimals, value)}
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
