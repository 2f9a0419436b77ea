import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import Modal from "react-bootstrap/Modal";
import { api, type Schemas } from "@/shared/api/client";
import { useKeep, useSaveOwnMetric } from "@/shared/api/queries";
import { Gone, Refused } from "@/shared/ui/Kept";

type Own = Schemas["OwnMetric"];
type Draft = Schemas["OwnMetricDraft"];
const EMPTY: Draft = { key: "", label: "", unit: "", expression: "", decimals: 2, version: null };
const READ_AGAIN = ["own-metrics", "handbook", "screen", "over-time"];

/** Expressions with a name: made, changed, removed with undo. They serve in rules, columns, sorting and charts. */
export function OwnMetrics({ onHide }: { onHide: () => void }) {
  const metrics = useQuery({ queryKey: ["own-metrics"], queryFn: api.ownMetrics }).data?.metrics ?? [];
  const [editing, setEditing] = useState<{ draft: Draft; id: number | null } | null>(null);
  const [gone, setGone] = useState<Own | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const failed = (error: Error) => setProblem(error.message);
  const save = useSaveOwnMetric(READ_AGAIN);
  const remove = useKeep(READ_AGAIN, api.deleteOwnMetric);
  const restore = useKeep(READ_AGAIN, api.restoreOwnMetric);

  function submit(event: FormEvent) {
    event.preventDefault();
    if (!editing) return;
    setProblem(null);
    save.mutate(editing, { onSuccess: () => setEditing(null), onError: failed });
  }
  const field = (key: keyof Draft, label: string, most: number, hint: string) => (
    <label>
      {label}
      <input
        value={String(editing?.draft[key] ?? "")}
        maxLength={most}
        placeholder={hint}
        spellCheck={false}
        required={key !== "unit"}
        onChange={(event) =>
          editing &&
          setEditing({
            ...editing,
            draft: {
              ...editing.draft,
              [key]: key === "decimals" ? Number(event.target.value) || 0 : event.target.value,
            },
          })
        }
      />
    </label>
  );
  return (
    <Modal show onHide={onHide} size="lg" animation={false} aria-labelledby="own-title">
      <Modal.Header closeButton>
        <Modal.Title id="own-title">Your own metrics</Modal.Title>
      </Modal.Header>
      <Modal.Body className="screens">
        <Refused problem={problem} />
        <Gone
          name={gone?.key ?? null}
          onUndo={() => gone && restore.mutate(gone.id, { onSuccess: () => setGone(null), onError: failed })}
        />
        <ul>
          {metrics.map((metric) => (
            <li key={metric.id}>
              <button
                type="button"
                className="screen-name"
                onClick={() => setEditing({ draft: draftOf(metric), id: metric.id })}
              >
                {metric.label}
              </button>
              <span className="muted">
                <code>{metric.key}</code> {metric.unit}
              </span>
              <span className="screen-tools">
                <button
                  type="button"
                  className="quiet"
                  onClick={() => remove.mutate(metric, { onSuccess: () => setGone(metric), onError: failed })}
                >
                  remove
                </button>
              </span>
              <p className="formula">{metric.expression}</p>
              {metric.problem && <p className="rule-error">{metric.problem}</p>}
            </li>
          ))}
        </ul>
        {metrics.length === 0 && !editing && (
          <p className="muted">
            None yet. Any expression that is a number can have a name, and then serves like every other metric.
          </p>
        )}
        {editing ? (
          <form className="kept-form" onSubmit={submit}>
            {field("key", "Name in rules", 40, "like dear_ratio: small letters, digits and _")}
            {field("label", "Label", 80, "like Dear against its year")}
            {field("unit", "Unit", 20, "%, ×, $, or nothing")}
            {field("expression", "Expression", 1000, "like iv30 / mean(iv30, 252)")}
            {field("decimals", "Decimals", 1, "2")}
            <p>
              <button type="submit" className="plain">
                keep
              </button>
              <button type="button" className="quiet" onClick={() => setEditing(null)}>
                leave it
              </button>
            </p>
          </form>
        ) : (
          <button type="button" className="plain" onClick={() => setEditing({ draft: EMPTY, id: null })}>
            make one
          </button>
        )}
      </Modal.Body>
    </Modal>
  );
}

const draftOf = ({ key, label, unit, expression, decimals, version }: Own): Draft => ({
  key,
  label,
  unit,
  expression,
  decimals,
  version,
});
