import { type FormEvent, useState } from "react";
import { api, type Schemas } from "@/shared/api/client";
import { LINES_AGAIN, useKeep, useLines, useSaveLine } from "@/shared/api/queries";
import { count, DASH, date, number, signed } from "@/shared/format";
import { Refused } from "@/shared/ui/Kept";
import { Scrolling } from "@/shared/ui/Scrolling";
import type { PartProps } from "./part";

type Line = Schemas["LineRow"];
type Draft = Schemas["LineDraft"];

/** What was just done to a line, in words, and the way back. */
type Step = { words: string; back: () => void };

/** One's own lines of a name: what changes them, each change with a way back. */
export function useOwnLines(symbol: string, at: PartProps["at"], by: string | null) {
  const { answer, lines } = useLines(symbol, { ...at, ...(by && { by }) });
  const [step, setStep] = useState<Step | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const save = useSaveLine(symbol);
  const remove = useKeep(LINES_AGAIN, api.deleteLine);
  const restore = useKeep(LINES_AGAIN, api.restoreLine);
  const failed = (error: Error) => setProblem(error.message);
  const done = (next: Step | null) => {
    setProblem(null);
    setStep(next);
  };
  const takeAway = ({ id, version }: Pick<Line, "id" | "version">, words: string, back: boolean) =>
    remove.mutate(
      { id, version },
      {
        onSuccess: () =>
          done(
            back ? { words, back: () => restore.mutate(id, { onSuccess: () => done(null), onError: failed }) } : null,
          ),
        onError: failed,
      },
    );
  return {
    answer,
    lines,
    step,
    problem,
    put: (price: number, name = "", note = "") =>
      save.mutate(
        { draft: { symbol, price, name, note, version: null }, id: null },
        {
          onSuccess: (line) =>
            done({ words: `A line was put at ${number(price, 2)}.`, back: () => takeAway(line, "", false) }),
          onError: failed,
        },
      ),
    change: (line: Line, changes: Partial<Draft>) => {
      const before = draftOf(line);
      save.mutate(
        { draft: { ...before, ...changes }, id: line.id },
        {
          onSuccess: (kept) =>
            done({
              words:
                changes.price === undefined
                  ? `The line at ${number(line.price, 2)} was changed.`
                  : `A line was moved from ${number(line.price, 2)} to ${number(changes.price, 2)}.`,
              back: () =>
                save.mutate(
                  { draft: { ...before, version: kept.version ?? null }, id: line.id },
                  { onSuccess: () => done(null), onError: failed },
                ),
            }),
          onError: failed,
        },
      );
    },
    remove: (line: Line) => takeAway(line, `The line at ${number(line.price, 2)} was taken away.`, true),
  };
}

const draftOf = ({ symbol, name, price, note, version }: Line): Draft => ({ symbol, name, price, note, version });

type Lines = ReturnType<typeof useOwnLines>;

/** A name's own lines as a table that is typed into, and where a new one is typed. */
export function OwnLines({
  of,
  placing,
  onPlace,
  onBy,
}: {
  of: Lines;
  placing: boolean;
  onPlace: (placing: boolean) => void;
  onBy: (day: string | null) => void;
}) {
  const data = of.answer.data;
  const [price, setPrice] = useState("");
  const [name, setName] = useState("");
  function submit(event: FormEvent) {
    event.preventDefault();
    const value = Number(price);
    if (!(value > 0)) return;
    of.put(value, name.trim());
    setPrice("");
    setName("");
  }
  const failed = of.answer.failureReason;
  return (
    <section className="figure own-lines-part">
      <header>
        <h2>
          Own lines{" "}
          {data && (
            <span className="aside">
              {data.lines.length === 0 && "none yet"}
              {data.later > 0 && ` ${count(data.later, "line")} put there after this session`}
            </span>
          )}
        </h2>
        <div className="figure-controls">
          {of.step && (
            <span role="status">
              {of.step.words}{" "}
              <button type="button" className="quiet" onClick={of.step.back}>
                undo
              </button>
            </span>
          )}
          <button type="button" className="quiet" aria-pressed={placing} onClick={() => onPlace(!placing)}>
            {placing ? "click where it goes" : "put by a click"}
          </button>
          <form onSubmit={submit}>
            <input
              aria-label="Price of a new line"
              placeholder="at a price"
              inputMode="decimal"
              maxLength={14}
              value={price}
              onChange={(event) => setPrice(event.target.value)}
            />
            <input
              aria-label="Name of a new line"
              placeholder="named"
              maxLength={60}
              value={name}
              onChange={(event) => setName(event.target.value)}
            />
            <button type="submit" className="quiet" disabled={!(Number(price) > 0)}>
              put
            </button>
          </form>
        </div>
      </header>
      <Refused problem={of.problem ?? failed?.message ?? null} />
      {data && data.lines.length > 0 && (
        <Scrolling label="Own lines">
          <table>
            <thead>
              <tr>
                <th data-kind="text">Name</th>
                <th>Price $</th>
                <th title="From the price now">Away %</th>
                <th title="In moves priced for the next session">Away σ</th>
                <th
                  colSpan={2}
                  title="Of a touch by that day: under the fitted surface with a price without drift, and in the name's own past with its drift taken out"
                >
                  Chance to touch by{" "}
                  <input
                    type="date"
                    aria-label="By which day"
                    value={data.by}
                    onChange={(event) => onBy(event.target.value || null)}
                  />
                </th>
                <th data-kind="text">Note</th>
                <th>Since</th>
                <th>
                  <span className="visually-hidden">Take away</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {data.lines.map((line) => (
                <tr key={line.id}>
                  <th scope="row">
                    <Cell
                      label={`Name of the line at ${line.price}`}
                      value={line.name ?? ""}
                      hint="name"
                      most={60}
                      onSet={(text) => of.change(line, { name: text })}
                    />
                  </th>
                  <td>
                    <Cell
                      label={`Price of the line ${line.name || line.price}`}
                      value={String(line.price)}
                      most={14}
                      fits={(text) => Number(text) > 0}
                      onSet={(text) => of.change(line, { price: Number(text) })}
                    />
                  </td>
                  <td>{signed(line.away_pct, 2)}</td>
                  <td>{signed(line.away_moves, 1)}</td>
                  <td title={line.priced_reason ?? "Under the fitted surface"}>
                    {line.priced_chance_pct === null ? DASH : `${number(line.priced_chance_pct, 0)} % priced`}
                  </td>
                  <td
                    title={`In ${count(line.past_windows, "stretch", "stretches")} of ${count(data.sessions, "session")}, of which ${line.past_apart} can lie side by side`}
                  >
                    {line.past_chance_pct === null ? DASH : `${number(line.past_chance_pct, 0)} % past`}
                  </td>
                  <td data-kind="text">
                    <Cell
                      label={`Note on the line at ${line.price}`}
                      value={line.note ?? ""}
                      hint="why"
                      most={500}
                      onSet={(text) => of.change(line, { note: text })}
                    />
                  </td>
                  <td>{date(line.since)}</td>
                  <td>
                    <button
                      type="button"
                      className="quiet"
                      aria-label={`Take away the line at ${line.price}`}
                      onClick={() => of.remove(line)}
                    >
                      take away
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scrolling>
      )}
    </section>
  );
}

/** A text in a table that is changed where it stands. */
function Cell({
  label,
  value,
  hint,
  most,
  fits = () => true,
  onSet,
}: {
  label: string;
  value: string;
  hint?: string;
  /** Whether a text can be set; one that cannot is taken back. */
  fits?: (text: string) => boolean;
  most: number;
  onSet: (text: string) => void;
}) {
  return (
    <input
      key={value}
      aria-label={label}
      defaultValue={value}
      placeholder={hint}
      maxLength={most}
      spellCheck={false}
      onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      onBlur={(event) => {
        const text = event.currentTarget.value.trim();
        if (!fits(text)) event.currentTarget.value = value;
        else if (text !== value) onSet(text);
      }}
    />
  );
}
