import { Views } from "@/shared/stack/Views";
import { TakeAlong, type TakenAlong } from "@/shared/ui/TakeAlong";

type View = "names" | "tickets" | "contracts" | "day";
const VIEWS: { value: View; label: string }[] = [
  { value: "names", label: "by name" },
  { value: "tickets", label: "tickets" },
  { value: "contracts", label: "contracts" },
  { value: "day", label: "through the day" },
];

/** Up to which time of the session trades are looked at, and how many sessions back. */
export function Until({
  until,
  sessions,
  onWrite,
  onSessions,
}: {
  until: string | null;
  sessions: number;
  onWrite: (changes: Record<string, string | null>, step?: boolean) => void;
  onSessions: (sessions: number) => void;
}) {
  return (
    <span className={until ? "as-of past" : "as-of"}>
      <label>
        until{" "}
        <input
          className="edge-input"
          inputMode="numeric"
          placeholder="now"
          maxLength={5}
          aria-label="Until which time of the session, at the exchange"
          title="Only what was known by then, like 11:30 at the exchange; empty: all of the session"
          key={until ?? ""}
          defaultValue={until ?? ""}
          onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
          onBlur={(event) => {
            const wanted = timeOf(event.currentTarget.value);
            if (wanted === undefined) event.currentTarget.value = until ?? "";
            else if (wanted !== until) onWrite({ until: wanted }, true);
          }}
        />
      </label>{" "}
      {until && (
        <button type="button" className="quiet" onClick={() => onWrite({ until: null }, true)}>
          all of it
        </button>
      )}
      <label>
        {" "}
        over{" "}
        <select
          aria-label="How many sessions"
          value={sessions}
          onChange={(event) => onSessions(Number(event.target.value))}
        >
          <option value={1}>the session</option>
          {[2, 3, 4, 5].map((n) => (
            <option key={n} value={n}>
              {n} sessions
            </option>
          ))}
        </select>
      </label>
    </span>
  );
}

/** A time of day as 09:45; null for none, undefined when it is no time. */
function timeOf(text: string): string | null | undefined {
  if (text.trim() === "") return null;
  const match = /^\s*([01]?\d|2[0-3])[:.]?([0-5]\d)\s*$/.exec(text);
  return match ? `${match[1]?.padStart(2, "0")}:${match[2]}` : undefined;
}

/** How the survivors are looked at, and what can be taken along. */
export function TapeTools(
  props: TakenAlong & {
    view: View;
    least: number;
    evidence: boolean;
    onView: (view: View) => void;
    onEvidence: () => void;
    onLeast: (least: number) => void;
  },
) {
  const { view } = props;
  return (
    <div className="results-tools">
      <Views views={VIEWS} view={view} evidence={props.evidence} onView={props.onView} onEvidence={props.onEvidence} />
      <div className="tool-group">
        {view === "names" && (
          <label className="aim-for">
            at least{" "}
            <input
              className="edge-input"
              inputMode="numeric"
              aria-label="At least so many tickets"
              maxLength={6}
              key={props.least}
              defaultValue={props.least}
              onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
              onBlur={(event) => {
                const wanted = Math.trunc(Number(event.currentTarget.value));
                if (wanted >= 1 && wanted <= 100_000 && wanted !== props.least) props.onLeast(wanted);
                else event.currentTarget.value = String(props.least);
              }}
            />{" "}
            tickets
          </label>
        )}
        <TakeAlong {...props} />
      </div>
    </div>
  );
}
