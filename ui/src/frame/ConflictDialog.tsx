import Modal from "react-bootstrap/Modal";
import { useConflict } from "@/shared/conflict";

/** Something was changed in two windows: both versions, and which one is kept. */
export function ConflictDialog() {
  const conflict = useConflict();
  if (!conflict) return null;
  const side = (title: string, lines: string[]) => (
    <section>
      <h3>{title}</h3>
      <ul>
        {lines.slice(0, 60).map((line, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a line is its place
          <li key={i}>{line}</li>
        ))}
        {lines.length === 0 && <li className="muted">nothing</li>}
      </ul>
    </section>
  );
  return (
    <Modal show onHide={() => conflict.decide(false)} size="lg" animation={false} aria-labelledby="conflict-title">
      <Modal.Header closeButton>
        <Modal.Title id="conflict-title">{conflict.name} was changed in another window</Modal.Title>
      </Modal.Header>
      <Modal.Body className="conflict">
        <div className="conflict-sides">
          {side("Kept there", conflict.theirs)}
          {side("Yours, not kept yet", conflict.mine)}
        </div>
        <p>
          <button type="button" className="plain" onClick={() => conflict.decide(true)}>
            keep mine instead
          </button>
          <button type="button" className="quiet" onClick={() => conflict.decide(false)}>
            leave what is kept
          </button>
        </p>
      </Modal.Body>
    </Modal>
  );
}
