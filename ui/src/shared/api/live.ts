import type { QueryClient } from "@tanstack/react-query";
import { marketHere } from "@/shared/market";
import { type Change, changes } from "./changes";
import { setTold } from "./told";
import { TRIPS_AGAIN } from "./tripwires";

/**
 * The server tells of every moment of the market, and pages ask again what it changed. A browser keeps few connections to one
 * address, so of all its windows on a market one listens and passes on what it hears; when that one is closed another does.
 */

type Heard = ({ kind: "moment" } & Change) | { kind: "trip" } | { kind: "here" } | { kind: "lost" };
type Passed = Heard | { kind: "who" };

/** So long after the last word of the server, which comes every ten seconds, a window no longer counts as told. */
const PATIENCE_MS = 35_000;
const AGAIN_MS = 10_000;
const FIRST_MS = 100;

export function listen(client: QueryClient): void {
  const market = marketHere();
  if (market === null) return;
  const name = `flinch live ${market}`;
  const windows = new BroadcastChannel(name);
  const post = (passed: Passed) => windows.postMessage(passed);
  let patience: ReturnType<typeof setTimeout> | undefined;
  let last: Heard | null = null;

  const hear = (heard: Heard) => {
    clearTimeout(patience);
    if (heard.kind === "moment") changes.note(heard);
    if (heard.kind === "trip") for (const key of TRIPS_AGAIN) void client.invalidateQueries({ queryKey: [key] });
    if (heard.kind === "lost") return setTold(false);
    patience = setTimeout(() => setTold(false), PATIENCE_MS);
    const shown = client.getQueryData<{ version: number }>(["market"]);
    if (shown === undefined && heard.kind === "moment") {
      // The first answer is still on its way, and may be of this very moment.
      clearTimeout(patience);
      patience = setTimeout(() => hear(heard), FIRST_MS);
      return;
    }
    if (heard.kind !== "moment" || heard.version === shown?.version) return setTold(true);
    // What came while nobody was told is caught up with before the window counts as told. Whoever let it run may be another.
    void client.invalidateQueries({ queryKey: ["run"] });
    void client.invalidateQueries({ queryKey: ["market"] }).then(() => setTold(true));
  };
  const pass = (heard: Heard) => {
    hear(heard);
    post(heard);
  };
  const open = () => {
    const stream = new EventSource(`/api/live?market=${encodeURIComponent(market)}`);
    stream.addEventListener("moment", ({ data }: MessageEvent<string>) => {
      const { version, before, kinds, names } = JSON.parse(data) as Change;
      last = { kind: "moment", version, before, kinds, names };
      pass(last);
    });
    stream.addEventListener("here", () => pass({ kind: "here" }));
    stream.addEventListener("trip", () => pass({ kind: "trip" }));
    stream.onerror = () => {
      last = { kind: "lost" };
      pass(last);
      // A refusal ends it for good; meanwhile this window asks by itself.
      if (stream.readyState === EventSource.CLOSED) setTimeout(open, AGAIN_MS);
    };
  };

  windows.onmessage = ({ data }: MessageEvent<Passed>) => {
    if (data.kind !== "who") hear(data);
    else if (last !== null) post(last);
  };
  post({ kind: "who" });
  // Held as long as the window is there.
  const listening = () => {
    open();
    return new Promise<never>(() => undefined);
  };
  void (navigator.locks ? navigator.locks.request(name, listening) : listening());
}
