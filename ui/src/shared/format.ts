const plain = new Map<number, Intl.NumberFormat>();

function fixed(decimals: number): Intl.NumberFormat {
  let format = plain.get(decimals);
  if (!format) {
    // What rounds to nothing has no sign.
    format = new Intl.NumberFormat("en", {
      minimumFractionDigits: decimals,
      maximumFractionDigits: decimals,
      signDisplay: "negative",
    });
    plain.set(decimals, format);
  }
  return format;
}

const short = new Intl.NumberFormat("en", { notation: "compact", maximumSignificantDigits: 3 });
export const MINUS = "−";
export const DASH = "–";

/** A number with fixed decimals and a true minus sign. */
export function number(value: number | null | undefined, decimals = 0): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return DASH;
  return fixed(decimals).format(value).replace("-", MINUS);
}

/** Large counts and sums in three digits: 24.1M. */
export function compact(value: number | null | undefined): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return DASH;
  return Math.abs(value) >= 10_000 ? short.format(value).replace("-", MINUS) : number(value, 0);
}

/** In three digits, with its sign always written: +4.9M. */
export function signedCompact(value: number | null | undefined): string {
  return value !== null && value !== undefined && value > 0 ? `+${compact(value)}` : compact(value);
}

/** With its sign always written. */
export function signed(value: number | null | undefined, decimals = 2): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return DASH;
  return value > 0 ? `+${number(value, decimals)}` : number(value, decimals);
}

/** ▲ up, ▼ down, nothing for no move: a sign that needs no colour. */
export function arrow(value: number | null | undefined): string {
  if (!value) return "";
  return value > 0 ? "▲" : "▼";
}

/** How a metric of the catalogue is written in a table. */
export function metricText(unit: string, decimals: number, value: number | null | undefined): string {
  return unit === "shares" || unit === "contracts" || unit === "$ a %" || (unit === "$" && decimals === 0)
    ? compact(value)
    : number(value, decimals);
}

/** Three significant digits, for an edge that was dragged. */
export function rounded(value: number): number {
  return Number(value.toPrecision(3));
}

const month = new Intl.DateTimeFormat("en-US", { month: "short", timeZone: "UTC" });
const weekday = new Intl.DateTimeFormat("en-US", { weekday: "short", timeZone: "UTC" });

/** 9 Sep, with the year on request. */
export function date(iso: string, withYear = false): string {
  const text = `${Number(iso.slice(8, 10))} ${month.format(new Date(`${iso.slice(0, 10)}T00:00:00Z`))}`;
  return withYear ? `${text} ${iso.slice(0, 4)}` : text;
}

/** Wed 9 Sep 2026 15:45, as written in the instant's own zone. */
export function instant(iso: string): string {
  return `${weekday.format(new Date(`${iso.slice(0, 10)}T00:00:00Z`))} ${date(iso, true)} ${iso.slice(11, 16)}`;
}

/** 9 Sep 15:45, as written in the instant's own zone. */
export const moment = (iso: string) => `${date(iso)} ${iso.slice(11, 16)}`;

/** A time of day so many minutes later, within the day: 09:31. */
export function later(time: string, minutes: number): string {
  const [hour = 0, minute = 0] = time.split(":").map(Number);
  const at = Math.min(Math.max(hour * 60 + minute + minutes, 0), 24 * 60 - 1);
  return `${String(Math.floor(at / 60)).padStart(2, "0")}:${String(at % 60).padStart(2, "0")}`;
}

export function count(n: number, one: string, many = `${one}s`): string {
  return `${number(n)} ${n === 1 ? one : many}`;
}

const inZone = (timeZone: string) =>
  new Intl.DateTimeFormat("en-GB", { timeZone, hour: "2-digit", minute: "2-digit", second: "2-digit" });
let atTheExchange = inZone("America/New_York");

/** Say the zone of the market that is open; a page is of one market. */
export function setExchangeZone(zone: string) {
  atTheExchange = inZone(zone);
}

/** Exchange time to the second. */
export const clock = (iso: string) => atTheExchange.format(new Date(iso));

/** The city that a zone is called by. */
export const city = (zone: string) => (zone.split("/").at(-1) ?? zone).replaceAll("_", " ");
