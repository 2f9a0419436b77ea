/** The address of one structure: its key is the symbol and its legs. */
export function oneAddress(key: string, entry = 0.3, scaled = false): string {
  const [symbol = "", legs = ""] = key.split(" ");
  const params = new URLSearchParams({ legs });
  if (entry !== 0.3) params.set("entry", String(entry));
  if (scaled) params.set("scaled", "1");
  return `/structure/${symbol}?${params}`;
}
