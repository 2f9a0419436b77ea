/** How far work is, and at what; with a way to stop it. */
export function Progress({ stage, percent, onStop }: { stage: string; percent: number; onStop?: () => void }) {
  return (
    <p className="progress-line" role="status">
      <progress max={100} value={percent} aria-label={stage} /> <span>{stage}</span>
      {onStop && (
        <button type="button" className="quiet" onClick={onStop}>
          cancel
        </button>
      )}
    </p>
  );
}
