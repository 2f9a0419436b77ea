import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, download, type Schemas } from "@/shared/api/client";
import { useFileLook, useKinds } from "@/shared/api/queries";
import { compact, number } from "@/shared/format";
import { Progress } from "./Progress";
import { useWorkOf } from "./useWork";

type How = Schemas["ImportHow"];
type Look = Schemas["FileLook"];

/** Nothing was said of a file. */
const NOTHING: How = {
  kind: null,
  source: null,
  columns: {},
  zone: null,
  days: {},
  percent: [],
  decimals: [],
  adjusted: null,
  make_names: false,
};

/** A file that was brought: what it holds and how its columns are taken, what came of a check, and what is done with it. */
export function BroughtFile({ upload, source, zone }: { upload: Schemas["UploadRow"]; source: string; zone: string }) {
  const client = useQueryClient();
  const [said, setSaid] = useState(NOTHING);
  const [checked, setChecked] = useState<string | null>(null);
  const how: How = { ...said, source: source || null };
  const text = JSON.stringify(how);
  const whole = upload.here === upload.size;
  const look = useFileLook(upload.id, how, whole && !upload.loaded);
  const work = useWorkOf(upload.job, upload.loaded);
  const away = useMutation({
    mutationKey: ["upload"],
    mutationFn: () => api.putAway(upload.id),
    onSettled: () => client.invalidateQueries({ queryKey: ["imports"] }),
  });
  const seen = look.data;
  const counts = work.data;
  // What was checked, or is remembered from before, is of what is said now.
  const isChecked = counts != null && !counts.loaded && checked === text;
  const ready = seen?.kind != null && seen.question === null;
  const set = (change: Partial<How>) => setSaid({ ...said, ...change });
  const act = (load: boolean) => {
    setChecked(text);
    work.mutate({ file: upload.id, load, how });
  };
  const error = away.error ?? work.error ?? (seen ? null : look.failureReason);
  return (
    <article className="brought" aria-label={upload.name}>
      <header>
        <h3>{upload.name}</h3>
        <span className="muted">{compact(upload.size)} bytes</span>
        {seen && !upload.loaded && (
          <KindChoice look={seen} onKind={(kind) => set({ kind, columns: {}, days: {}, percent: [], decimals: [] })} />
        )}
        <span className="acts">
          {!upload.loaded && (
            <>
              <button type="button" className="plain" disabled={!ready || work.isPending} onClick={() => act(false)}>
                check
              </button>
              <button type="button" className="plain" disabled={!ready || work.isPending} onClick={() => act(true)}>
                load
              </button>
            </>
          )}
          <button type="button" className="quiet" disabled={work.isPending} onClick={() => away.mutate()}>
            put away
          </button>
        </span>
      </header>
      {!whole && <p role="alert">It is not all here. Put it away and bring it again.</p>}
      {work.told && <Progress {...work.told} />}
      {error && <Told error={error} />}
      {seen?.question && !upload.loaded && (
        <p role="alert" className="question">
          {seen.question}
        </p>
      )}
      {counts && !work.isPending && (isChecked || counts.loaded || checked === null) && (
        <Outcome id={upload.id} counts={counts} />
      )}
      {seen && !upload.loaded && <Columns look={seen} zone={zone} onHow={set} />}
    </article>
  );
}

function Told({ error }: { error: Error }) {
  const where = error instanceof ApiError ? error.problem.where : null;
  return (
    <p role="alert">
      {error.message}
      {where && <span className="muted"> ({where})</span>}
    </p>
  );
}

function KindChoice({ look, onKind }: { look: Look; onKind: (kind: string | null) => void }) {
  const kinds = useKinds().data?.kinds ?? [];
  return (
    <label>
      holds{" "}
      <select value={look.kind ?? ""} onChange={(event) => onKind(event.target.value || null)}>
        {look.kind === null && <option value="">say what</option>}
        {kinds.map(({ kind }) => (
          <option key={kind} value={kind}>
            {kind.replaceAll("_", " ")}
          </option>
        ))}
      </select>
    </label>
  );
}

/** How each column of a file is taken, with some of its values; and what is said of the whole file. */
function Columns({ look, zone, onHow }: { look: Look; zone: string; onHow: (change: Partial<How>) => void }) {
  const { how } = look;
  const wanted = new Map(look.wanted.map((column) => [column.name, column]));
  const taken = new Set(look.columns.map((column) => column.ours));
  const take = (theirs: string, ours: string) => {
    // Who takes a column for what another one was leaves that one out.
    const other = look.columns.find((column) => column.ours === ours && ours !== "");
    onHow({ columns: { ...how.columns, ...(other ? { [other.theirs]: "" } : {}), [theirs]: ours } });
  };
  const instants = look.columns.some((column) => column.ours && wanted.get(column.ours)?.sort === "instant");
  return (
    <>
      <table className="plain-table narrow">
        <thead>
          <tr>
            <th className="words">Column</th>
            <th className="words">Some of its values</th>
            <th className="words">Is taken for</th>
            <th className="words">Written as</th>
          </tr>
        </thead>
        <tbody>
          {look.columns.map((column) => {
            const ours = column.ours === null ? undefined : wanted.get(column.ours);
            return (
              <tr key={column.theirs} className={column.theirs === look.where ? "asked-of" : undefined}>
                <th scope="row" className="words">
                  {column.theirs}
                </th>
                <td className="words sample">{column.sample.join("   ") || "nothing"}</td>
                <td className="words">
                  <select
                    aria-label={`${column.theirs} is taken for`}
                    value={column.ours ?? ""}
                    disabled={look.kind === null}
                    onChange={(event) => take(column.theirs, event.target.value)}
                  >
                    <option value="">nothing: it is left out</option>
                    {look.wanted.map(({ name, needed }) => (
                      <option key={name} value={name}>
                        {name}
                        {needed ? " (needed)" : ""}
                        {taken.has(name) && name !== column.ours ? " (taken)" : ""}
                      </option>
                    ))}
                  </select>
                </td>
                <td className="words">
                  {ours?.sort === "day" ? (
                    <select
                      aria-label={`Days of ${column.theirs}`}
                      value={how.days[ours.name] ?? ""}
                      onChange={(event) => onHow({ days: without(how.days, ours.name, event.target.value) })}
                    >
                      <option value="">{column.way ?? "say how"}</option>
                      {Object.entries(look.day_ways).map(([way, words]) => (
                        <option key={way} value={way}>
                          {words}
                        </option>
                      ))}
                    </select>
                  ) : ours?.share ? (
                    <select
                      aria-label={`Values of ${column.theirs}`}
                      value={
                        how.percent.includes(ours.name) ? "percent" : how.decimals.includes(ours.name) ? "decimals" : ""
                      }
                      onChange={(event) => {
                        const others = (names: string[]) => names.filter((name) => name !== ours.name);
                        const is = (what: string) => (event.target.value === what ? [ours.name] : []);
                        onHow({
                          percent: [...others(how.percent), ...is("percent")],
                          decimals: [...others(how.decimals), ...is("decimals")],
                        });
                      }}
                    >
                      <option value="">as their size tells</option>
                      <option value="decimals">decimals</option>
                      <option value="percent">in percent</option>
                    </select>
                  ) : (
                    column.way
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <div className="fields">
        {instants && (
          <label>
            Times without an offset are in
            <select value={how.zone ?? ""} onChange={(event) => onHow({ zone: event.target.value || null })}>
              <option value="">a zone that is not said</option>
              {[...new Set([how.zone ?? zone, zone, "UTC"])].map((one) => (
                <option key={one} value={one}>
                  {one}
                </option>
              ))}
            </select>
          </label>
        )}
        {look.adjustable && (
          <label className="beside">
            <input
              type="checkbox"
              checked={how.adjusted ?? false}
              onChange={(event) => onHow({ adjusted: event.target.checked })}
            />{" "}
            prices are adjusted for splits already
          </label>
        )}
        {look.kind !== "names" && look.kind !== null && (
          <label className="beside">
            <input
              type="checkbox"
              checked={how.make_names}
              onChange={(event) => onHow({ make_names: event.target.checked })}
            />{" "}
            make names of symbols that are not known
          </label>
        )}
      </div>
    </>
  );
}

function without(days: How["days"], name: string, way: string): How["days"] {
  const { [name]: _, ...others } = days;
  return way ? { ...others, [name]: way } : others;
}

/** What came of a check, or of loading. */
function Outcome({ id, counts }: { id: number; counts: Schemas["ImportCounts"] }) {
  const { rows, added, changed, same, refused, beside, loaded } = counts;
  const would = loaded ? "were" : "would be";
  return (
    <div className="outcome">
      <p role="status">
        Of {number(rows)} rows of {counts.kind.replaceAll("_", " ")} {number(added)} {would} added and {number(changed)}{" "}
        changed; {number(same)} {loaded ? "were" : "are"} there already, {number(refused)} {loaded ? "were" : "are"}{" "}
        refused.
        {beside > 0 && ` ${number(beside)} ${would} kept beside: another source is preferred.`}
      </p>
      {counts.first.length > 0 && (
        <>
          <table className="plain-table">
            <caption className="visually-hidden">The first rows that are refused</caption>
            <thead>
              <tr>
                <th className="words">Line</th>
                <th className="words">Why it is refused</th>
                {counts.columns.map((name) => (
                  <th key={name} className="words">
                    {name}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {counts.first.map((row) => (
                <tr key={row.line}>
                  <td className="words">{row.line}</td>
                  <td className="words why">{row.reason}</td>
                  {row.cells.map((cell, place) => (
                    <td key={counts.columns[place]} className="words">
                      {cell}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          <p>
            <button type="button" className="quiet" onClick={() => void download(`/api/imports/${id}/refused`)}>
              all {number(refused)} of them as a file
            </button>{" "}
            <span className="muted">Mend them there and bring that file: it has the same columns.</span>
          </p>
        </>
      )}
    </div>
  );
}
