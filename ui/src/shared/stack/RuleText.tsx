import { type KeyboardEvent, useEffect, useId, useRef, useState } from "react";
import { api, type Metric, type Schemas } from "@/shared/api/client";
import { useHandbook } from "@/shared/api/queries";
import { Options } from "@/shared/ui/Options";
import type { Bars } from "./state";
import type { Things } from "./things";

const MOST = 8;
const OPERATOR = /[<>=()]/;
const WORD = /[A-Za-z_][A-Za-z_0-9]*$/;

type Proposal = { name: string; insert: string; what: string };

/** A rule as text, with completion of metrics and functions, and what is wrong with it while it is typed. */
export function RuleText({
  text: given,
  bars,
  names,
  things,
  label,
  placeholder,
  picks = false,
  onDone,
}: {
  text: string;
  bars: Bars;
  names: Metric[];
  things: Things;
  label: string;
  placeholder?: string;
  /** Words that are no name are looked for in labels too, and one metric is a rule by itself. */
  picks?: boolean;
  /** The new text, or null when nothing shall change. */
  onDone: (text: string | null) => void;
}) {
  const [text, setText] = useState(given);
  const [caret, setCaret] = useState(given.length);
  const [chosen, setChosen] = useState(0);
  const [closed, setClosed] = useState(true);
  const [checked, setChecked] = useState<Schemas["CheckReply"] | null>(null);
  const area = useRef<HTMLTextAreaElement>(null);
  const list = useId();
  const functions = useHandbook().data?.functions ?? [];

  useEffect(() => {
    if (picks) return;
    area.current?.focus();
    area.current?.setSelectionRange(given.length, given.length);
  }, [given, picks]);

  useEffect(() => {
    if (!text.trim()) return setChecked(null);
    const stop = new AbortController();
    const timer = setTimeout(() => {
      api.check({ text: text.slice(0, 1001), bars, table: things.table }, stop.signal).then(setChecked, () => {});
    }, 120);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [text, bars, things.table]);

  const expression = !picks || OPERATOR.test(text);
  const found = closed ? [] : propose(text, caret, names, functions, expression);
  const showing = found.length > 0;

  function accept(proposal: Proposal) {
    const word = WORD.exec(text.slice(0, caret))?.[0] ?? "";
    const whole = !expression;
    // A metric picked by itself is a rule without edges already.
    if (whole && !proposal.insert.endsWith(")")) {
      setText("");
      setClosed(true);
      return onDone(proposal.insert);
    }
    const before = whole ? "" : text.slice(0, caret - word.length);
    const after = whole ? "" : text.slice(caret);
    const next = before + proposal.insert + after;
    setText(next);
    setClosed(true);
    setChecked(null);
    const at = before.length + proposal.insert.length - (proposal.insert.endsWith(")") ? 1 : 0);
    setCaret(at);
    requestAnimationFrame(() => {
      area.current?.focus();
      area.current?.setSelectionRange(at, at);
    });
  }

  function key(event: KeyboardEvent<HTMLTextAreaElement>) {
    event.stopPropagation();
    const proposal = found[chosen];
    if (showing && event.key === "ArrowDown") setChosen(Math.min(chosen + 1, found.length - 1));
    else if (showing && event.key === "ArrowUp") setChosen(Math.max(chosen - 1, 0));
    else if (
      showing &&
      proposal &&
      (event.key === "Tab" || (event.key === "Enter" && proposal.name !== lastWord(text, caret)))
    )
      accept(proposal);
    else if (event.key === "Enter") finish();
    else if (event.key === "Escape") {
      if (showing) setClosed(true);
      else {
        setText(given);
        onDone(null);
        // The box stays where it is: the keys are the page's again.
        if (picks) area.current?.blur();
      }
    } else return;
    event.preventDefault();
  }

  function finish() {
    const clean = text.replace(/\s+/g, " ").trim();
    if (!clean) return onDone(null);
    onDone(clean === given ? null : clean);
    if (picks) setText("");
    setClosed(true);
  }

  const wrong = checked?.message ? checked : null;
  return (
    <div className="rule-text">
      <textarea
        ref={area}
        value={text}
        rows={Math.min(6, Math.max(1, Math.ceil((text.length + 1) / 34)))}
        aria-label={label}
        placeholder={placeholder}
        aria-controls={showing ? list : undefined}
        aria-autocomplete="list"
        aria-activedescendant={showing ? `${list}-${chosen}` : undefined}
        aria-invalid={wrong !== null && expression}
        maxLength={1001}
        spellCheck={false}
        autoComplete="off"
        onChange={(event) => {
          setText(event.target.value.replace(/\n/g, " "));
          setCaret(event.target.selectionStart);
          setChosen(0);
          setClosed(false);
        }}
        onSelect={(event) => setCaret(event.currentTarget.selectionStart)}
        onBlur={() => setClosed(true)}
        onKeyDown={key}
      />
      {showing && (
        <Options
          id={list}
          className="proposals"
          label="Names that fit"
          items={found}
          chosen={chosen}
          keyOf={(proposal) => proposal.name}
          onChoose={setChosen}
          onPick={accept}
        >
          {(proposal) => (
            <>
              <b>{proposal.name}</b> <span>{proposal.what}</span>
            </>
          )}
        </Options>
      )}
      {!picks && (
        <div className="rule-foot">
          <span>
            {wrong ? (
              <span className="rule-error">
                {wrong.message}
                <Pointed text={text} start={wrong.start} end={wrong.end} />
              </span>
            ) : (
              <>Enter to apply, Esc to leave it{checked?.sessions ? ` · needs ${checked.sessions} sessions` : ""}</>
            )}
          </span>
          <button type="button" className="quiet" onClick={finish}>
            apply
          </button>
        </div>
      )}
      {picks && wrong && expression && (
        <div className="rule-error">
          {wrong.message}
          <Pointed text={text} start={wrong.start} end={wrong.end} />
        </div>
      )}
    </div>
  );
}

/** The part of a text that is wrong, marked among what stands around it. */
function Pointed({ text, start, end }: { text: string; start: number; end: number }) {
  const from = Math.min(start, text.length);
  const to = Math.max(from + 1, Math.min(end, text.length));
  return (
    <code className="rule-pointed">
      {from > 18 ? "…" : ""}
      {text.slice(Math.max(0, from - 18), from)}
      <mark>{text.slice(from, to) || "␣"}</mark>
      {text.slice(to, to + 18)}
      {to + 18 < text.length ? "…" : ""}
    </code>
  );
}

const lastWord = (text: string, caret: number) => WORD.exec(text.slice(0, caret))?.[0] ?? "";

function propose(
  text: string,
  caret: number,
  metrics: Metric[],
  functions: Schemas["FunctionEntry"][],
  expression: boolean,
): Proposal[] {
  const whole = !expression;
  const wanted = (whole ? text.trim() : lastWord(text, caret)).toLowerCase();
  if (wanted.length < (whole ? 1 : 2)) return [];
  const grade = (key: string, label: string) => {
    const low = label.toLowerCase();
    if (key === wanted) return 0;
    if (key.startsWith(wanted)) return 1;
    if (low.startsWith(wanted)) return 2;
    if (low.split(/[\s,()–-]+/).some((word) => word.startsWith(wanted))) return 3;
    return key.includes(wanted) || (wanted.length > 2 && low.includes(wanted)) ? 4 : 9;
  };
  const all = [
    ...metrics.map((m) => ({
      rank: Math.min(grade(m.key, m.label), grade(m.key, m.short)),
      length: m.key.length,
      proposal: { name: m.key, insert: m.key, what: m.unit ? `${m.label} (${m.unit})` : m.label },
    })),
    ...functions
      .filter((f) => !metrics.some((m) => m.key === f.name))
      .map((f) => ({
        rank: grade(f.name, f.name),
        length: f.name.length,
        proposal: {
          name: f.signature,
          insert: f.signature.endsWith("()") ? f.name : `${f.name}()`,
          what: f.definition,
        },
      })),
  ];
  return all
    .filter((entry) => entry.rank < 9)
    .sort((a, b) => a.rank - b.rank || a.length - b.length)
    .slice(0, MOST)
    .map((entry) => entry.proposal);
}
