import { type ReactNode, useEffect, useState } from "react";
import { download, type FileFormat } from "@/shared/api/client";
import { count } from "@/shared/format";

/** What was just done, in words that go after a while; and what says so when it is done: copying symbols, writing a file. */
export function useSaid() {
  const [said, say] = useState<ReactNode>(null);
  useEffect(() => {
    if (typeof said !== "string") return;
    const timer = setTimeout(() => say(null), 4000);
    return () => clearTimeout(timer);
  }, [said]);
  return {
    said,
    say,
    copy: (symbols: string[]) =>
      navigator.clipboard.writeText(symbols.join(", ")).then(
        () => say(`${count(symbols.length, "symbol")} copied`),
        () => say("The browser did not allow copying. Take the names out as CSV instead."),
      ),
    takeOut: <Request extends { format: FileFormat }>(address: string, request: Request) => {
      const kind = request.format.toUpperCase();
      return download(address, request, ({ percent, stop }) =>
        say(
          <>
            writing as {kind}, {percent} %{" "}
            <button type="button" className="quiet" onClick={stop}>
              stop
            </button>
          </>,
        ),
      ).then(
        () => say(`written as ${kind}`),
        (error: Error) => say(error.name === "AbortError" ? "stopped; nothing was written" : error.message),
      );
    },
  };
}
