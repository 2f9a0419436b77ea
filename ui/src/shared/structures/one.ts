/** The address of one structure: its key is the symbol and its legs; `from` is the universe that it was made of. */
export function oneAddress(key: string, entry = 0.3, scaled = false, from = ""): string {
  const [symbol = "", legs = ""] = key.split(" ");
  const params = new URLSearchParams({ legs });
  if (entry !== 0.3) params.set("entry", String(entry));
  if (scaled) params.set("scaled", "1");
  if (from.startsWith("screen:")) params.set("from", from);
  return `/structure/${symbol}?${params}`;
}
