import { useMemo, useState } from "react";
import Modal from "react-bootstrap/Modal";
import type { Metric } from "@/shared/api/client";
import { Link } from "@/shared/route";

const NONE = {};

/** Which columns the table shows, and in which order. */
export function ColumnPicker({
  chosen,
  usual,
  metrics,
  groups,
  drawn = NONE,
  onChange,
  onHide,
}: {
  chosen: string[];
  usual: string[];
  metrics: Metric[];
  groups: string[];
  /** Columns that are drawn from several metrics, by key. */
  drawn?: Record<string, { label: string }>;
  onChange: (ids: string[]) => void;
  onHide: () => void;
}) {
  const [wanted, setWanted] = useState("");
  const labels = useMemo(() => {
    const out = new Map(Object.entries(drawn).map(([id, d]) => [id, d.label]));
    for (const metric of metrics) out.set(metric.key, metric.label);
    return out;
  }, [metrics, drawn]);
  const low = wanted.trim().toLowerCase();
  const fits = (id: string, label: string) => !low || id.includes(low) || label.toLowerCase().includes(low);
  const toggle = (id: string) =>
    onChange(chosen.includes(id) ? chosen.filter((c) => c !== id) : [...chosen, id].slice(0, 40));
  const move = (place: number, by: number) => {
    const next = [...chosen];
    const [id] = next.splice(place, 1);
    if (id) next.splice(Math.max(0, place + by), 0, id);
    onChange(next);
  };
  const row = (id: string, label: string, unit: string) => (
    <li key={id}>
      <label>
        <input type="checkbox" checked={chosen.includes(id)} onChange={() => toggle(id)} /> {label}{" "}
        <span className="unit">{unit}</span>
      </label>
      {!(id in drawn) && (
        <Link to={`/handbook/${id}`} className="quiet" aria-label={`${label} in the Handbook`}>
          ?
        </Link>
      )}
    </li>
  );
  return (
    <Modal show onHide={onHide} size="lg" animation={false} aria-labelledby="columns-title">
      <Modal.Header closeButton>
        <Modal.Title id="columns-title">Columns</Modal.Title>
      </Modal.Header>
      <Modal.Body className="picker">
        <section>
          <input
            // biome-ignore lint/a11y/noAutofocus: the dialog was opened to search in it
            autoFocus
            type="search"
            placeholder="find a metric …"
            aria-label="Find a metric"
            value={wanted}
            onChange={(event) => setWanted(event.target.value)}
          />
          <div className="picker-list">
            {Object.entries(drawn).some(([id, drawn]) => fits(id, drawn.label)) && (
              <>
                <h3>drawn</h3>
                <ul>
                  {Object.entries(drawn)
                    .filter(([id, d]) => fits(id, d.label))
                    .map(([id, d]) => row(id, d.label, ""))}
                </ul>
              </>
            )}
            {groups.map((group) => {
              const list = metrics.filter((m) => m.group === group && fits(m.key, m.label));
              if (list.length === 0) return null;
              return (
                <div key={group}>
                  <h3>{group}</h3>
                  <ul>{list.map((m) => row(m.key, m.label, m.unit))}</ul>
                </div>
              );
            })}
          </div>
        </section>
        <section>
          <h3>shown, from left to right</h3>
          <ol className="picker-order">
            {chosen.map((id, place) => (
              <li key={id}>
                <span>{labels.get(id) ?? id}</span>
                <button
                  type="button"
                  className="quiet"
                  disabled={place === 0}
                  aria-label={`Move ${labels.get(id) ?? id} left`}
                  onClick={() => move(place, -1)}
                >
                  ↑
                </button>
                <button
                  type="button"
                  className="quiet"
                  disabled={place === chosen.length - 1}
                  aria-label={`Move ${labels.get(id) ?? id} right`}
                  onClick={() => move(place, 1)}
                >
                  ↓
                </button>
                <button
                  type="button"
                  className="quiet"
                  aria-label={`Leave ${labels.get(id) ?? id} out`}
                  onClick={() => toggle(id)}
                >
                  ×
                </button>
              </li>
            ))}
          </ol>
          <button type="button" className="quiet" onClick={() => onChange(usual)}>
            back to the usual columns
          </button>
        </section>
      </Modal.Body>
    </Modal>
  );
}
