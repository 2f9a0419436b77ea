/** Why a change of what is kept was refused. */
export function Refused({ problem }: { problem: string | null }) {
  if (!problem) return null;
  return (
    <p className="rule-error" role="alert">
      {problem}
    </p>
  );
}

/** What was just removed, and the way back. */
export function Gone({ name, onUndo }: { name: string | null; onUndo: () => void }) {
  if (name === null) return null;
  return (
    <p role="status">
      {name} was deleted.{" "}
      <button type="button" className="quiet" onClick={onUndo}>
        undo
      </button>
    </p>
  );
}
