import { type FormEvent, useEffect, useRef, useState } from "react";
import { api, type Schemas, type Why } from "@/shared/api/client";
import { useChangeTray, useKeep, useSavePlan, useTray } from "@/shared/api/queries";
import { date, number, signed } from "@/shared/format";
import { Link } from "@/shared/route";
import { readNumber } from "@/shared/stack/state";
import { oneAddress } from "@/shared/structures/one";

type Plan = Schemas["PlanView"];
type Exits = Schemas["Exits"];

const FIELDS: { key: keyof Exits; words: string; unit: string; kind: "number" | "date" }[] = [
  { key: "profit_pct", words: "a profit of", unit: "% of the greatest", kind: "number" },
  { key: "loss_pct", words: "a loss of", unit: "% of what was paid or received", kind: "number" },
  { key: "days_left", words: "with", unit: "days left", kind: "number" },
  { key: "price_above", words: "price at", unit: "or above", kind: "number" },
  { key: "price_below", words: "price at", unit: "or below", kind: "number" },
  { key: "on", words: "on", unit: "", kind: "date" },
];

/** What is kept of a structure before it is traded: why, at what price, when to leave; and the plans that are there. */
export function PlanForm({
  one,
  legs,
  why,
  origin,
  plans,
}: {
  one: Schemas["OneReply"];
  legs: string;
  why: Why;
  /** Why its name is looked at, where it came from a screen. */
  origin: Why | null;
  plans: Plan[];
}) {
  const mine = plans.find((plan) => plan.legs === legs);
  const here = useRef<HTMLElement>(null);
  // It was asked for, and stands below what is said of the structure.
  useEffect(() => here.current?.scrollIntoView({ block: "start" }), []);
  return (
    <section ref={here} className="plan" aria-label="Plan">
      <h3>{mine ? "The plan for it" : "Make it a plan"}</h3>
      <Form
        key={mine ? `${mine.id} ${mine.version}` : legs}
        one={one}
        legs={legs}
        why={why}
        origin={origin}
        plan={mine ?? null}
      />
      {plans.filter((plan) => plan.id !== mine?.id).length > 0 && (
        <>
          <h3>Other plans on {one.symbol}</h3>
          <ul className="plan-list">
            {plans
              .filter((plan) => plan.id !== mine?.id)
              .map((plan) => (
                <li key={plan.id}>
                  <Link to={`${oneAddress(`${plan.symbol} ${plan.legs}`)}&plan=1`}>
                    {plan.label} {plan.words}
                  </Link>{" "}
                  <span className="muted">{plan.profit === null ? "" : `${signed(plan.profit, 0)} $`}</span>
                </li>
              ))}
          </ul>
        </>
      )}
    </section>
  );
}

function Form({
  one,
  legs,
  why,
  origin,
  plan,
}: {
  one: Schemas["OneReply"];
  legs: string;
  why: Why;
  origin: Why | null;
  plan: Plan | null;
}) {
  const inTray = useTray().data?.items.find((item) => item.symbol === one.symbol);
  const reason = (origin ?? inTray?.why)?.words;
  const tray = useChangeTray();
  const [words, setWords] = useState(plan?.why.words ?? [why.words, reason].filter(Boolean).join(" · ").slice(0, 600));
  const [limit, setLimit] = useState(text(plan ? plan.entry_limit : roundedLimit(one.structure.cost)));
  const [exits, setExits] = useState<Record<string, string>>(() =>
    Object.fromEntries(FIELDS.map(({ key }) => [key, text(plan?.exits[key] ?? null)])),
  );
  const [notes, setNotes] = useState(plan?.notes ?? "");
  const [problem, setProblem] = useState<string | null>(null);
  const [gone, setGone] = useState<number | null>(null);
  const save = useSavePlan();
  const drop = useKeep(["plans"], api.dropPlan);
  const restore = useKeep(["plans"], api.restorePlan);
  const failed = (error: Error) => setProblem(error.message);
  function submit(event: FormEvent) {
    event.preventDefault();
    const entry = readNumber(limit);
    if (entry === undefined) return setProblem("The entry limit is no number.");
    const read: Record<string, number | string | null> = {};
    for (const { key, words: what, unit, kind } of FIELDS) {
      const value = (exits[key] ?? "").trim();
      const told = kind === "date" ? value || null : readNumber(value);
      if (told === undefined) return setProblem(`“${what} … ${unit}” is no number.`);
      read[key] = told;
    }
    setProblem(null);
    save.mutate(
      {
        draft: {
          symbol: one.symbol,
          legs,
          why: {
            page: plan?.why.page ?? origin?.page ?? why.page,
            words: words.trim(),
            link: plan?.why.link || origin?.link || why.link || "",
          },
          entry_limit: entry,
          exits: read as Exits,
          notes: notes.trim(),
          version: plan?.version ?? null,
        },
        id: plan?.id ?? null,
      },
      {
        // A plan lives in the tray beside its name.
        onSuccess: () => !inTray && tray.mutate({ kind: "add", symbols: [one.symbol], why: origin ?? why }),
        onError: failed,
      },
    );
  }
  return (
    <form onSubmit={submit}>
      {plan && (
        <p>
          Made on {date(plan.made_on, true)} at {number(plan.spot, 2)} for {number(plan.cost)} $; now{" "}
          {number(plan.worth)} $ at mid, <b>{signed(plan.profit, 0)} $</b>. {plan.days_left} days left.
          {plan.problem && ` It cannot be priced now: ${plan.problem}.`}
        </p>
      )}
      <label className="wide">
        Why
        <textarea rows={2} maxLength={600} value={words} onChange={(event) => setWords(event.target.value)} required />
      </label>
      <label>
        Enter at{" "}
        <input
          className="edge-input"
          inputMode="decimal"
          maxLength={12}
          value={limit}
          onChange={(event) => setLimit(event.target.value)}
        />{" "}
        $ a unit or better <span className="muted">(a credit is below zero)</span>
      </label>
      <fieldset>
        <legend>Leave at</legend>
        {FIELDS.map(({ key, words: what, unit, kind }) => {
          const now = plan?.exits_now.find((exit) => exit.key === key);
          return (
            <label key={key} className={now?.reached ? "reached" : undefined}>
              {what}{" "}
              <input
                className={kind === "date" ? undefined : "edge-input"}
                type={kind === "date" ? "date" : "text"}
                inputMode={kind === "date" ? undefined : "decimal"}
                aria-label={`Leave: ${what} ${unit}`}
                maxLength={12}
                value={exits[key]}
                onChange={(event) => setExits({ ...exits, [key]: event.target.value })}
              />{" "}
              {unit}
            </label>
          );
        })}
      </fieldset>
      {plan?.exits_now.some((exit) => exit.reached) && (
        <p className="reached" role="status">
          Reached:{" "}
          {plan.exits_now
            .filter((exit) => exit.reached)
            .map((exit) => exit.words)
            .join("; ")}
          .
        </p>
      )}
      <label className="wide">
        Notes
        <textarea rows={3} maxLength={4000} value={notes} onChange={(event) => setNotes(event.target.value)} />
      </label>
      {problem && <p role="alert">{problem}</p>}
      <p>
        <button type="submit" className="plain" disabled={save.isPending}>
          {plan ? "keep the change" : "keep as a plan"}
        </button>{" "}
        {plan && (
          <button
            type="button"
            className="quiet"
            onClick={() => drop.mutate(plan, { onSuccess: () => setGone(plan.id), onError: failed })}
          >
            drop it
          </button>
        )}
        {gone !== null && !plan && (
          <button type="button" className="quiet" onClick={() => restore.mutate(gone, { onError: failed })}>
            bring it back
          </button>
        )}
      </p>
    </form>
  );
}

const text = (value: number | string | null | undefined) =>
  value === null || value === undefined ? "" : String(value);
const roundedLimit = (cost: number | null) => (cost === null ? null : Math.round(cost));
