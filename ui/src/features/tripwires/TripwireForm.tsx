import { type FormEvent, useState } from "react";
import type { Schemas } from "@/shared/api/client";
import { useMetrics, useScreens } from "@/shared/api/queries";
import { type Tripwire, type TripwireDraft, useSaveTripwire, useTripwireBefore } from "@/shared/api/tripwires";
import { count, number } from "@/shared/format";
import { RuleText } from "@/shared/stack/RuleText";
import { screenSources, Universe } from "@/shared/stack/Stack";
import type { Bars } from "@/shared/stack/state";
import { NAMES } from "@/shared/stack/things";
import { Refused } from "@/shared/ui/Kept";
import { BeforeFigure } from "./BeforeFigure";

type Again = Schemas["AgainBody"];

/** A tripwire as it stands in the form. */
export type Wanted = {
  name: string;
  /** Where the names come from; null: the list that is kept already. */
  source: string | null;
  symbols: string[] | null;
  session: string | null;
  of: string | null;
  keep: boolean;
  what: "rule" | "enters" | "leaves";
  text: string;
  bars: Bars;
  screen: string | null;
  again: NonNullable<Again["when"]>;
  minutes: number;
  why: Record<string, unknown>;
  note: string;
  version: number | null;
};

export const EMPTY: Wanted = {
  name: "",
  source: "tray",
  symbols: null,
  session: null,
  of: null,
  keep: false,
  what: "rule",
  text: "",
  bars: "day",
  screen: null,
  again: "session",
  minutes: 30,
  why: {},
  note: "",
  version: null,
};

export const wantedOf = (one: Tripwire): Wanted => ({
  name: one.name,
  source: one.parked.source ?? null,
  symbols: one.parked.symbols ?? null,
  session: one.parked.session ?? null,
  of: one.parked.of ?? null,
  keep: false,
  what: one.rule.screen ? (one.rule.when ?? "enters") : "rule",
  text: one.rule.text ?? "",
  bars: one.rule.bars ?? "day",
  screen: one.rule.screen ?? null,
  again: one.again.when ?? "session",
  minutes: one.again.minutes || 30,
  why: one.why,
  note: one.note,
  version: one.version,
});

/** What the server is asked: none while nothing is waited for. */
function asked(wanted: Wanted): Schemas["BeforeAsked"] | null {
  const { symbols, session, of, source } = wanted;
  const text = wanted.what === "rule" ? wanted.text.trim() : "";
  const screen = wanted.what === "rule" ? null : wanted.screen;
  if (!text && screen === null) return null;
  return {
    parked: source === null ? { symbols, session, of, source } : { symbols: null, session: null, of: null, source },
    rule: {
      text,
      bars: screen === null ? wanted.bars : "day",
      screen,
      when: wanted.what === "leaves" ? "leaves" : "enters",
    },
    again: { when: wanted.again, minutes: wanted.again === "after" ? wanted.minutes : 0 },
  };
}

/** Made or changed, with how often it would have tripped before it is armed. */
export function TripwireForm({
  wanted: given,
  id,
  onDone,
  onLeave,
}: {
  wanted: Wanted;
  id: number | null;
  onDone: (id: number) => void;
  onLeave: () => void;
}) {
  const [wanted, setWanted] = useState(given);
  const [writing, setWriting] = useState(given.what === "rule" && given.text === "");
  const [problem, setProblem] = useState<string | null>(null);
  const metrics = useMetrics();
  const screens = useScreens().data;
  const save = useSaveTripwire();
  const body = asked(wanted);
  const before = useTripwireBefore(body);
  const set = (some: Partial<Wanted>) => setWanted({ ...wanted, ...some });
  const called = wanted.name.trim() || (wanted.what === "rule" ? wanted.text.slice(0, 60) : "");

  function submit(event: FormEvent) {
    event.preventDefault();
    if (!body) return setProblem("Say what you wait for: a rule, or a screen.");
    if (!called) return setProblem("Give it a name.");
    setProblem(null);
    const draft: TripwireDraft = {
      ...body,
      name: called,
      keep: wanted.keep && wanted.source !== null,
      why: wanted.why,
      note: wanted.note,
      armed: true,
      version: wanted.version,
    };
    save.mutate(
      { draft, id },
      { onSuccess: (made) => onDone(made.id), onError: (error: Error) => setProblem(error.message) },
    );
  }

  return (
    <form className="tripwire-form" onSubmit={submit} aria-label="A tripwire">
      <h2>{id === null ? "Wait for something" : `Change ${given.name}`}</h2>
      <Refused problem={problem} />
      <fieldset>
        <legend>On which names</legend>
        {wanted.source === null ? (
          <p>
            {count(wanted.symbols?.length ?? 0, "name")}
            {wanted.session && ` as of ${wanted.session}`}{" "}
            <button type="button" className="quiet" onClick={() => set({ source: wanted.of ?? "tray", symbols: null })}>
              choose others
            </button>
          </p>
        ) : (
          <>
            <Universe value={wanted.source} survivors onChange={(source) => set({ source })} />
            <label>
              <input type="radio" checked={!wanted.keep} onChange={() => set({ keep: false })} /> whoever is in it at
              each update
            </label>
            <label>
              <input type="radio" checked={wanted.keep} onChange={() => set({ keep: true })} /> those of now, kept
            </label>
          </>
        )}
      </fieldset>
      <fieldset>
        <legend>What you wait for</legend>
        <label>
          <input type="radio" checked={wanted.what === "rule"} onChange={() => set({ what: "rule" })} /> a rule that
          begins to hold
        </label>
        {(["enters", "leaves"] as const).map((what) => (
          <label key={what}>
            <input type="radio" checked={wanted.what === what} onChange={() => set({ what })} /> a name that {what} a
            screen
          </label>
        ))}
        {wanted.what === "rule" ? (
          <div className="tripwire-rule">
            {writing ? (
              <RuleText
                text={wanted.text}
                bars={wanted.bars}
                names={metrics}
                things={NAMES}
                label="The rule"
                placeholder="close > sma(close, 50), or a metric with an edge"
                onDone={(text) => {
                  setWriting(false);
                  if (text !== null) set({ text });
                }}
              />
            ) : (
              <button type="button" className="formula" onClick={() => setWriting(true)}>
                {wanted.text || "write the rule"}
              </button>
            )}
            <label>
              on{" "}
              <select value={wanted.bars} onChange={(event) => set({ bars: event.target.value as Bars })}>
                <option value="day">daily bars</option>
                <option value="60">bars of an hour</option>
                <option value="15">bars of 15 minutes</option>
                <option value="5">bars of 5 minutes</option>
              </select>
            </label>
          </div>
        ) : (
          <select
            aria-label="Screen"
            value={wanted.screen ?? ""}
            onChange={(event) => set({ screen: event.target.value || null })}
          >
            <option value="">choose a screen</option>
            {screens &&
              screenSources(screens).map(([source, name]) => (
                <option key={source} value={source}>
                  {name}
                </option>
              ))}
          </select>
        )}
      </fieldset>
      <fieldset>
        <legend>A name trips</legend>
        {(["once", "session", "after"] as const).map((when) => (
          <label key={when}>
            <input type="radio" checked={wanted.again === when} onChange={() => set({ again: when })} />{" "}
            {{ once: "once", session: "once a session", after: "again when it has been no for" }[when]}
          </label>
        ))}
        {wanted.again === "after" && (
          <label>
            <input
              type="number"
              min={0}
              max={1950}
              value={wanted.minutes}
              onChange={(event) =>
                set({ minutes: Math.min(1950, Math.max(0, Math.round(Number(event.target.value)))) })
              }
            />{" "}
            minutes
          </label>
        )}
      </fieldset>
      <fieldset>
        <legend>Called</legend>
        <input
          aria-label="Name"
          value={wanted.name}
          maxLength={120}
          placeholder={called || "like Average recovered"}
          onChange={(event) => set({ name: event.target.value })}
        />
        <input
          aria-label="Note"
          value={wanted.note}
          maxLength={500}
          placeholder="why, in your words"
          onChange={(event) => set({ note: event.target.value })}
        />
      </fieldset>
      <p>
        <button type="submit" className="plain" disabled={save.isPending}>
          {id === null ? "arm it" : "keep it, and arm it anew"}
        </button>{" "}
        <button type="button" className="quiet" onClick={onLeave}>
          leave it
        </button>
      </p>
      {body &&
        (before.error ? (
          <p className="rule-error" role="alert">
            {before.error.message}
          </p>
        ) : (
          before.data && <BeforeFigure before={before.data} />
        ))}
      {body && before.data && (
        <p className="muted">
          Of {count(before.data.names, "name")} now {number(before.data.holds)} hold it already, and do not trip
          {before.data.unknown > 0 && `; of ${number(before.data.unknown)} it is not known`}.
        </p>
      )}
    </form>
  );
}
