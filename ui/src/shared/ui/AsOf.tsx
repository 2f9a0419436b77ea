import { useAsOf } from "@/shared/address";
import { useMarket } from "@/shared/api/queries";
import { date, later } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";

type Write = (changes: Record<string, string | null>, step?: boolean) => void;

/**
 * The session that a page is about, with the ones before it to go to: by hand, or with the keys [ and ]; and, where its minutes
 * are kept, from its open on, as it went.
 */
export function AsOf({ session, onWrite }: { session: string | null; onWrite: Write }) {
  const market = useMarket().data;
  const sessions = market?.sessions ?? [];
  const minute = useAsOf()?.split("T")[1];
  const newest = session === null || (session === sessions.at(-1) && !minute);
  function onGo(day: string | null) {
    onWrite({ asof: day === null || day === sessions.at(-1) ? null : day }, true);
  }
  function onStep(by: number) {
    const day = sessions[session ? sessions.indexOf(session) + by : -1];
    // To the same minute where that can be played, too.
    if (day) onGo(minute && market?.played.includes(day) ? `${day}T${minute}` : day);
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
      {market?.played.includes(session) && !minute && (
        <button
          type="button"
          className="quiet"
          title="This session again from its open on, minute by minute"
          onClick={() => onGo(`${session}T${later(market.opens, 1)}`)}
        >
          play again
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
