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

export const leans = (lean: number) => (lean > 0 ? "▲ up" : lean < 0 ? "▼ down" : "–");
