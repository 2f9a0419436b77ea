import type { QueryClient } from "@tanstack/react-query";
import { marketHere } from "@/shared/market";
import { setTold } from "./told";

/**
 * The server tells of every moment of the market, and pages ask again what it changed. A browser keeps few connections to one
 * address, so of all its windows on a market one listens and passes on what it hears; when that one is closed another does.
 */

type Heard = { kind: "moment"; version: number } | { kind: "here" } | { kind: "lost" };
type Passed = Heard | { kind: "who" };

/** So long after the last word of whoever listens a window no longer counts as told, and asks by itself. */
const PATIENCE_MS = 35_000;
const BEAT_MS = 10_000;

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
    if (heard.kind === "lost") return setTold(false);
    patience = setTimeout(() => setTold(false), PATIENCE_MS);
    const shown = client.getQueryData<{ version: number }>(["market"]);
    if (heard.kind === "here" || shown === undefined || heard.version === shown.version) return setTold(true);
    // What came while nobody was told is caught up with before the window counts as told.
    void client.invalidateQueries({ queryKey: ["market"] }).then(() => setTold(true));
  };
  const pass = (heard: Heard) => {
    last = heard;
    hear(heard);
    post(heard);
  };
  const open = () => {
    const stream = new EventSource(`/api/live?market=${encodeURIComponent(market)}`);
    const beat = setInterval(() => stream.readyState === EventSource.OPEN && post({ kind: "here" }), BEAT_MS);
    stream.addEventListener("moment", ({ data }: MessageEvent<string>) => {
      pass({ kind: "moment", version: (JSON.parse(data) as { version: number }).version });
    });
    stream.onerror = () => {
      pass({ kind: "lost" });
      if (stream.readyState !== EventSource.CLOSED) return;
      // A refusal ends it for good; meanwhile this window asks by itself.
      clearInterval(beat);
      setTimeout(open, BEAT_MS);
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
