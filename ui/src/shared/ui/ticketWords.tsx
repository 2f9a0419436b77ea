import { date, number } from "@/shared/format";

/** Contract, with its right in the hue of calls or puts and in a word. */
export function ContractName({ contract }: { contract: { is_call: boolean; strike: number; expiration: string } }) {
  return (
    <>
      {number(contract.strike, contract.strike % 1 ? 2 : 0)}{" "}
      <span className={contract.is_call ? "call" : "put"}>{contract.is_call ? "call" : "put"}</span>{" "}
      {date(contract.expiration)}
    </>
  );
}

const inNewYork = new Intl.DateTimeFormat("en-GB", {
  timeZone: "America/New_York",
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
});

/** Exchange time to the second. */
export const clock = (iso: string) => inNewYork.format(new Date(iso));

export const leans = (lean: number) => (lean > 0 ? "▲ up" : lean < 0 ? "▼ down" : "–");
