/**
 * The market that this window is about. It stands in every address (`market=`) and goes with every call; another one is another
 * address that is opened anew, so that nothing of one market is ever shown in another.
 */
export function marketHere(): string | null {
  return typeof window === "undefined" ? null : new URLSearchParams(window.location.search).get("market");
}

let current = marketHere();

/** Name the market in an address that names none. */
export function inMarket(address: string, market: string | null = current): string {
  if (market === null) return address;
  const [before = "", hash] = address.split("#");
  const [path = "", query = ""] = before.split("?");
  const params = new URLSearchParams(query);
  if (params.has("market")) return address;
  // At the end, and what was there stays as it was written.
  const named = `${path}?${query}${query ? "&" : ""}market=${encodeURIComponent(market)}`;
  return hash === undefined ? named : `${named}#${hash}`;
}

/** Before anything is asked: an address that names no market gets that which was chosen last. */
export async function settleMarket(): Promise<void> {
  if (current === null) {
    const answer = await fetch("/api/markets/chosen").catch(() => null);
    if (answer?.ok) current = ((await answer.json()) as { market: string }).market;
    const { pathname, search, hash } = window.location;
    if (current !== null) window.history.replaceState(window.history.state, "", inMarket(pathname + search + hash));
  }
  // Going back to an address of another market opens that one anew.
  window.addEventListener("popstate", () => {
    if (marketHere() !== current) window.location.reload();
  });
}

/** Open a page of another market. */
export function openMarket(market: string, page = "/screen"): void {
  window.location.assign(inMarket(page, market));
}
