import { openMarket } from "@/shared/market";
import { api } from "./client";

/** Open another market, which is the chosen one from then on: what cannot be kept is opened all the same. */
export async function chooseMarket(market: string, page?: string): Promise<void> {
  await api.chooseMarket(market).catch(() => undefined);
  openMarket(market, page);
}
