import type { useMetricMap } from "@/shared/api/queries";
import { date } from "@/shared/format";
import { PERIODS, SIZES, type Size } from "./Gallery";

/** The session the screen is run on, and the ones before it. */
export function AsOf({
  sessions,
  session,
  newest,
  onGo,
  onStep,
}: {
  sessions: string[];
  session: string | null;
  newest: boolean;
  onGo: (day: string | null) => void;
  onStep: (by: number) => void;
}) {
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

export function GalleryTools({
  params,
  onWrite,
}: {
  params: URLSearchParams;
  onWrite: (changes: Record<string, string | null>) => void;
}) {
  return (
    <>
      <select
        aria-label="What the charts show"
        value={params.get("chart") === "volatility" ? "volatility" : "price"}
        onChange={(event) => onWrite({ chart: event.target.value })}
      >
        <option value="price">price, and the move priced ahead</option>
        <option value="volatility">implied against historical volatility</option>
      </select>
      <select
        aria-label="Period of the charts"
        value={periodOf(params.get("period"))}
        onChange={(event) => onWrite({ period: event.target.value })}
      >
        {PERIODS.map((n) => (
          <option key={n} value={n}>
            {n} sessions
          </option>
        ))}
      </select>
      <select
        aria-label="Size of the charts"
        value={sizeOf(params.get("size"))}
        onChange={(event) => onWrite({ size: event.target.value })}
      >
        {Object.keys(SIZES).map((name) => (
          <option key={name} value={name}>
            {name}
          </option>
        ))}
      </select>
    </>
  );
}

export const sizeOf = (text: string | null): Size => (text === "small" || text === "large" ? text : "middle");
export const periodOf = (text: string | null): number => (PERIODS.includes(Number(text)) ? Number(text) : 63);

export function MetricSelect({
  label,
  value,
  metrics,
  onChange,
}: {
  label: string;
  value: string;
  metrics: ReturnType<typeof useMetricMap>;
  onChange: (key: string) => void;
}) {
  const groups = new Map<string, string[]>();
  for (const metric of metrics.values())
    if (metric.kind === "number") groups.set(metric.group, [...(groups.get(metric.group) ?? []), metric.key]);
  return (
    <label>
      {label}{" "}
      <select aria-label={label} value={value} onChange={(event) => onChange(event.target.value)}>
        {[...groups].map(([group, keys]) => (
          <optgroup key={group} label={group}>
            {keys.map((key) => (
              <option key={key} value={key}>
                {metrics.get(key)?.label}
              </option>
            ))}
          </optgroup>
        ))}
      </select>
    </label>
  );
}
