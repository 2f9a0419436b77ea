import { useEffect, useState } from "react";
import { download, type FileFormat } from "@/shared/api/client";
import { count } from "@/shared/format";

/** What was just done, in words that go after a while; and what says so when it is done: copying symbols, writing a file. */
export function useSaid() {
  const [said, say] = useState<string | null>(null);
  useEffect(() => {
    if (said === null) return;
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
    takeOut: <Request extends { format: FileFormat }>(address: string, request: Request) =>
      download(address, request).then(
        () => say(`written as ${request.format.toUpperCase()}`),
        (error: Error) => say(error.message),
      ),
  };
}
