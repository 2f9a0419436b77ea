import { date } from "@/shared/format";

export const USUAL_SESSIONS = 20;
const SPANS = [1, 5, 10, 20, 40, 60];
const DAY = /^\d{4}-\d\d-\d\d$/;
const day = (text: string | null) => (text !== null && DAY.test(text) ? text : null);

/** So many sessions of prints, or those between two days. */
export type Days = { sessions: number; first: string | null; last: string | null };

/** The days that an address asks for. What is no number there is what is usual. */
export function readDays(params: URLSearchParams): Days {
  const sessions = Number(params.get("n") ?? USUAL_SESSIONS);
  return {
    sessions: Number.isInteger(sessions) ? sessions : USUAL_SESSIONS,
    first: day(params.get("from")),
    last: day(params.get("to")),
  };
}

/** Which sessions' prints are looked at. */
export function PrintWindow({
  days,
  told,
  onWrite,
}: {
  days: Days;
  /** The days as they were found. */
  told: { first: string; last: string } | null;
  onWrite: (changes: Record<string, string | null>, step?: boolean) => void;
}) {
  const dated = days.first !== null || days.last !== null;
  return (
    <span className="print-window">
      <label>
        over{" "}
        <select
          aria-label="Sessions of prints"
          value={dated ? "dates" : days.sessions}
          onChange={(event) => {
            const chosen = event.target.value;
            if (chosen === "dates") onWrite({ from: told?.first ?? null, to: told?.last ?? null, n: null }, true);
            else onWrite({ n: chosen === String(USUAL_SESSIONS) ? null : chosen, from: null, to: null }, true);
          }}
        >
          {[...new Set([...SPANS, days.sessions])]
            .sort((a, b) => a - b)
            .map((n) => (
              <option key={n} value={n}>
                {n === 1 ? "the session" : `${n} sessions`}
              </option>
            ))}
          <option value="dates">two days</option>
        </select>
      </label>
      {dated ? (
        <>
          {" "}
          <input
            type="date"
            aria-label="First day of prints"
            value={days.first ?? told?.first ?? ""}
            onChange={(event) => event.target.value && onWrite({ from: event.target.value })}
          />{" "}
          to{" "}
          <input
            type="date"
            aria-label="Last day of prints"
            value={days.last ?? told?.last ?? ""}
            onChange={(event) => event.target.value && onWrite({ to: event.target.value })}
          />
        </>
      ) : (
        told && <span className="muted"> from {date(told.first)}</span>
      )}
    </span>
  );
}
