import { asOfDay } from "./address";
import type { Trip } from "./api/tripwires";
import { metricText } from "./format";

/** What a rule read when it tripped: Price $57.94, RSI 28. */
export const tripNumbers = ({ numbers }: Trip) =>
  numbers.map(({ label, unit, decimals, value }) => `${label} ${metricText(unit, decimals, value)}`).join(", ");

/** The name's page as it was at that minute. */
export const tripAddress = ({ symbol, moment }: Trip) => asOfDay(`/dossier/${symbol}?view=price`, moment.slice(0, 16));
