import { useMarket } from "@/shared/api/queries";
import { date } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";

type Write = (changes: Record<string, string | null>, step?: boolean) => void;

/** The session that a page is about, with the ones before it to go to: by hand, or with the keys [ and ]. */
export function AsOf({ session, onWrite }: { session: string | null; onWrite: Write }) {
  const sessions = useMarket().data?.sessions ?? [];
  const newest = session === null || session === sessions.at(-1);
  function onGo(day: string | null) {
    onWrite({ asof: day === null || day === sessions.at(-1) ? null : day }, true);
  }
  function onStep(by: number) {
    const day = sessions[session ? sessions.indexOf(session) + by : -1];
    if (day) onGo(day);
  }
  useKeys({ "[": () => onStep(-1), "]": () => onStep(1) });
  if (!session) return null;
  return (
    <span className={newest ? "as-of" : "as-of past"}>
      as of
      <button
        type="button"
        className="quiet"
        aria-label="The session before"
        title="The session before ([)"
        onClick={() => onStep(-1)}
      >
        ‹
      </button>
      <select aria-label="As of" value={session} onChange={(event) => onGo(event.target.value)}>
        {byMonth(sessions).map(([month, days]) => (
          <optgroup key={month} label={month}>
            {days.map((day) => (
              <option key={day} value={day}>
                {date(day, true)}
              </option>
            ))}
          </optgroup>
        ))}
      </select>
      <button
        type="button"
        className="quiet"
        aria-label="The session after"
        title="The session after (])"
        disabled={newest}
        onClick={() => onStep(1)}
      >
        ›
      </button>
      {!newest && (
        <button type="button" className="quiet" onClick={() => onGo(null)}>
          now
        </button>
      )}
    </span>
  );
}

/** Newest first. */
function byMonth(sessions: string[]): [string, string[]][] {
  const out = new Map<string, string[]>();
  for (const day of sessions.toReversed()) {
    const month = date(day, true).replace(/^\d+ /, "");
    const days = out.get(month);
    if (days) days.push(day);
    else out.set(month, [day]);
  }
  return [...out];
}
