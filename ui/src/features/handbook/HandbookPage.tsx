import { useEffect, useRef, useState } from "react";
import { useParams } from "react-router";
import { useAddress } from "@/shared/address";
import type { Metric, Schemas } from "@/shared/api/client";
import { useHandbook } from "@/shared/api/queries";
import { useKeys } from "@/shared/keyboard";
import { Link } from "@/shared/route";
import { hold } from "@/shared/settled";
import { Failed, Loading } from "@/shared/ui/States";
import { OwnMetrics } from "./OwnMetrics";

const FUNCTIONS = "functions of the rule language";

/** What every number means: definition, formula, unit, source. */
export default function HandbookPage() {
  const { entry } = useParams();
  const [params, write] = useAddress();
  const handbook = useHandbook();
  const body = useRef<HTMLDivElement>(null);
  const search = useRef<HTMLInputElement>(null);
  const [editing, setEditing] = useState(false);
  const asked = params.get("q") ?? "";
  const [wanted, setWanted] = useState(asked);
  // What is typed shows at once; the address follows when the typing pauses.
  useEffect(() => {
    if (wanted === asked) return;
    const release = hold();
    const timer = setTimeout(() => write({ q: wanted || null }), 200);
    return () => {
      clearTimeout(timer);
      release();
    };
  }, [wanted, asked, write]);
  const data = handbook.data;
  useKeys({ f: () => search.current?.focus() });

  useEffect(() => {
    document.title = "Handbook · Flinch";
    return () => {
      document.title = "Flinch";
    };
  }, []);
  // An entry that was linked to is shown, whatever was searched for.
  useEffect(() => {
    if (!entry || !data) return;
    const found = body.current?.querySelector<HTMLElement>(`[data-entry="${CSS.escape(entry)}"]`);
    found?.scrollIntoView({ block: "center" });
    found?.focus({ preventScroll: true });
  }, [entry, data]);

  if (!data)
    return handbook.failureReason ? <Failed error={handbook.failureReason} /> : <Loading what="the Handbook" />;
  const low = wanted.trim().toLowerCase();
  const fits = (...texts: string[]) => !low || texts.some((text) => text.toLowerCase().includes(low));
  const every = [...data.metrics, ...data.tickets, ...data.structures];
  const metrics = every.filter((m) => m.key === entry || fits(m.key, m.label, m.short, m.definition, m.formula));
  const functions = data.functions.filter((f) => f.name === entry || fits(f.name, f.definition, f.example));
  const groups = [...data.groups, ...data.ticket_groups, ...data.structure_groups].filter((group) =>
    metrics.some((m) => m.group === group),
  );
  const missing = entry && !every.some((m) => m.key === entry) && !data.functions.some((f) => f.name === entry);
  return (
    <div className="handbook">
      <nav aria-label="Groups">
        <h1>Handbook</h1>
        <input
          ref={search}
          type="search"
          value={wanted}
          placeholder="find a number …   f"
          aria-label="Find in the Handbook"
          onChange={(event) => setWanted(event.target.value)}
        />
        <p className="muted small">
          {every.length} metrics, {data.functions.length} functions
        </p>
        <ul>
          {[...groups, ...(functions.length > 0 ? [FUNCTIONS] : [])].map((group) => (
            <li key={group}>
              <button
                type="button"
                className="quiet"
                onClick={() => body.current?.querySelector(`[data-group="${CSS.escape(group)}"]`)?.scrollIntoView()}
              >
                {group}
              </button>
            </li>
          ))}
        </ul>
        <button type="button" className="plain" onClick={() => setEditing(true)}>
          your own metrics
        </button>
      </nav>
      <div className="handbook-body" ref={body}>
        {missing && (
          <p role="alert">
            The Handbook has no entry “{entry.slice(0, 40)}”. It may have been one of your own metrics; look for it on
            the left.
          </p>
        )}
        {groups.map((group) => (
          <section key={group} data-group={group}>
            <h2>{group}</h2>
            {metrics
              .filter((m) => m.group === group)
              .map((m) => (
                <MetricEntry key={m.key} metric={m} chosen={m.key === entry} />
              ))}
          </section>
        ))}
        {functions.length > 0 && (
          <section data-group={FUNCTIONS}>
            <h2>{FUNCTIONS}</h2>
            {functions.map((f) => (
              <FunctionEntry key={f.name} entry={f} chosen={f.name === entry} />
            ))}
          </section>
        )}
        {metrics.length + functions.length === 0 && <p className="muted">Nothing fits “{wanted}”.</p>}
      </div>
      {editing && <OwnMetrics onHide={() => setEditing(false)} />}
    </div>
  );
}

function MetricEntry({ metric, chosen }: { metric: Metric; chosen: boolean }) {
  return (
    <article
      data-entry={metric.key}
      className={chosen ? "chosen" : undefined}
      tabIndex={-1}
      aria-label={`${metric.label} (${metric.key})`}
    >
      <h3>
        <Link to={`/handbook/${metric.key}`}>{metric.label}</Link>{" "}
        <span className="unit">
          {metric.kind === "number" ? metric.unit : metric.kind === "condition" ? "yes / no" : "category"}
        </span>
        <code>{metric.key}</code>
      </h3>
      <p>{metric.definition}</p>
      {metric.needs[0] !== metric.key && <p className="formula">{metric.formula}</p>}
      <p className="muted small">
        From {metric.source || "the listing"}
        {metric.needs.length > 0 && metric.needs[0] !== metric.key && (
          <>
            {" · needs "}
            {metric.needs.map((need, i) => (
              <span key={need}>
                {i > 0 && ", "}
                <Link to={`/handbook/${need}`}>{need}</Link>
              </span>
            ))}
          </>
        )}
        {" · "}
        {metric.sessions === null
          ? "all sessions held"
          : metric.sessions === 1
            ? "one session"
            : `${metric.sessions} sessions`}
        {metric.intraday && " · also on minute bars"}
        {" · "}
        <Link to={`/screen?r=${encodeURIComponent(metric.key)}`}>screen on it</Link>
      </p>
    </article>
  );
}

function FunctionEntry({ entry, chosen }: { entry: Schemas["FunctionEntry"]; chosen: boolean }) {
  return (
    <article data-entry={entry.name} className={chosen ? "chosen" : undefined} tabIndex={-1} aria-label={entry.name}>
      <h3>
        <Link to={`/handbook/${entry.name}`}>
          <code>{entry.signature}</code>
        </Link>{" "}
        <span className="unit">{entry.group}</span>
      </h3>
      <p>{entry.definition}</p>
      <p className="formula">
        {entry.example}{" "}
        <Link className="small" to={`/screen?r=${encodeURIComponent(entry.example)}`}>
          try it
        </Link>
      </p>
    </article>
  );
}
