import type { Starter } from "@/shared/api/client";

/** What the first page asks: starters to begin with. */
export function Asking({
  starters,
  onOpen,
  onAll,
}: {
  starters: Starter[];
  onOpen: (key: string) => void;
  onAll: () => void;
}) {
  return (
    <nav className="asking" aria-label="Questions to begin with">
      <span className="muted">Ask, for example:</span>
      {starters.slice(0, 9).map((starter) => (
        <button
          key={starter.key}
          type="button"
          className="quiet"
          title={starter.description}
          onClick={() => onOpen(starter.key)}
        >
          {starter.name}
        </button>
      ))}
      <button type="button" className="quiet more" onClick={onAll}>
        all {starters.length} (o)
      </button>
    </nav>
  );
}
