import type { useMetricMap } from "@/shared/api/queries";

export const SIZES = { small: [150, 84], middle: [214, 112], large: [330, 168] } as const;
export type Size = keyof typeof SIZES;
const PERIODS = [21, 63, 126, 252, 504];

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
