import type { PriceRequest } from "@/shared/api/client";
import type { Write } from "./part";

export type Length = NonNullable<PriceRequest["length"]>;
export const LENGTHS: { value: Length; label: string }[] = [
  { value: "day", label: "Day" },
  { value: "60", label: "60 min" },
  { value: "15", label: "15 min" },
  { value: "5", label: "5 min" },
  { value: "1", label: "1 min" },
];

/** What can be laid over the bars, and what each is. */
export const LAYERS = [
  ["volume", "Volume", "shares of each bar"],
  ["averages", "Averages", "of closes, simple, exponential or weighted"],
  ["bollinger", "Bollinger bands", "20 bars, 2 deviations"],
  ["keltner", "Keltner bands", "20 bars, 1.5 average true ranges"],
  ["squeeze", "Squeeze", "dots below while the Bollinger bands lie inside the Keltner bands"],
  ["channel", "Regression channel", "the least-squares line and residuals to both sides"],
  ["fans", "Expected moves", "what was priced: weeks and months on days, the day’s on shorter bars"],
  ["gaps", "Open gaps", "not filled yet, of the last 126 bars"],
  ["swings", "Swings", "highs and lows above and below five bars on both sides, and the last leg’s extensions"],
  ["day", "Day before", "its high and low"],
  ["gamma", "Flip and peaks", "where net gamma exposure crosses zero, strikes with most exposure and open interest"],
  ["shelves", "Shelves", "where off-exchange notional of twenty sessions piled up"],
  ["tickets", "Option tickets", "the largest of five sessions"],
  ["events", "Events", "reports and dividends"],
  ["news", "News", "headlines, where they were told"],
] as const;
export type Layer = (typeof LAYERS)[number][0];

export type Choices = {
  length: Length;
  extended: boolean;
  layers: Layer[];
  averages: string;
  channel: number;
  deviations: number;
  below: string[];
};

const KEYS = ["bars", "hours", "layers", "averages", "channel", "deviations", "under"] as const;
const USUAL: Record<(typeof KEYS)[number], string> = {
  bars: "day",
  hours: "regular",
  layers: "volume averages fans events news",
  averages: "sma 20, sma 50",
  channel: "63",
  deviations: "2",
  under: "",
};
const KEPT = "flinch.price";

function kept(): Partial<typeof USUAL> {
  try {
    const read: unknown = JSON.parse(localStorage.getItem(KEPT) ?? "{}");
    return Object.fromEntries(
      Object.entries(read ?? {}).filter(
        ([key, value]) => (KEYS as readonly string[]).includes(key) && typeof value === "string",
      ),
    );
  } catch {
    return {};
  }
}

/** What was chosen last on any name, for an address that says nothing of it. */
export function lastChoices(params: URLSearchParams): Record<string, string> | null {
  if (KEYS.some((key) => params.has(key))) return null;
  const chosen = Object.entries(kept()).filter(([key, value]) => value !== USUAL[key as keyof typeof USUAL]);
  return chosen.length > 0 ? Object.fromEntries(chosen) : null;
}

/** Choices as the address has them; what cannot be one there is as usual. */
export function readChoices(params: URLSearchParams): Choices {
  const text = (key: keyof typeof USUAL) => params.get(key) ?? USUAL[key];
  const amount = (key: "channel" | "deviations", least: number, most: number) => {
    const value = Number(text(key));
    return value >= least && value <= most ? value : Number(USUAL[key]);
  };
  const asked = text("layers").split(" ");
  return {
    length: LENGTHS.find(({ value }) => value === text("bars"))?.value ?? "day",
    extended: text("hours") === "all",
    layers: LAYERS.map(([key]) => key).filter((key) => asked.includes(key)),
    averages: text("averages").slice(0, 60),
    channel: Math.round(amount("channel", 3, 504)),
    deviations: amount("deviations", 0.1, 10),
    below: text("under")
      .split("\n")
      .map((one) => one.trim())
      .filter(Boolean)
      .slice(0, 2),
  };
}

/** Into the address, and remembered in this browser for the next name. */
export function writeChoices(
  changes: Partial<Record<keyof typeof USUAL, string>>,
  params: URLSearchParams,
  onWrite: Write,
) {
  onWrite(Object.fromEntries(Object.entries(changes).map(([key, value]) => [key, value === "" ? " " : value])));
  const now = Object.fromEntries(KEYS.flatMap((key) => (params.has(key) ? [[key, params.get(key) ?? ""]] : [])));
  try {
    localStorage.setItem(KEPT, JSON.stringify({ ...kept(), ...now, ...changes }));
  } catch {
    // A browser that keeps nothing still has the address.
  }
}
