/** A leg as the address holds it. */
export type Leg = { quantity: number; isCall: boolean; strike: number; expiration: string };
export type Legs = { options: Leg[]; shares: number };

const OPTION = /^([+-]?)(\d{1,4})([CP])(\d{1,7}(?:\.\d{1,4})?)@(\d{4}-\d\d-\d\d)$/;
const SHARES = /^([+-]?)(\d{1,6})S$/;

/** Legs of a text; what cannot be read is left to the server to tell. */
export function readLegs(text: string): Legs {
  const out: Legs = { options: [], shares: 0 };
  for (const part of text.split(",")) {
    const shares = SHARES.exec(part.trim());
    const option = OPTION.exec(part.trim());
    if (shares) out.shares += Number(shares[2]) * (shares[1] === "-" ? -1 : 1);
    else if (option)
      out.options.push({
        quantity: Number(option[2]) * (option[1] === "-" ? -1 : 1),
        isCall: option[3] === "C",
        strike: Number(option[4]),
        expiration: option[5] ?? "",
      });
  }
  return out;
}

const sign = (n: number) => (n < 0 ? String(n) : `+${n}`);

export const legText = (leg: Leg) => `${sign(leg.quantity)}${leg.isCall ? "C" : "P"}${leg.strike}@${leg.expiration}`;

export const writeLegs = (legs: Legs): string =>
  [...legs.options.map(legText), ...(legs.shares ? [`${sign(legs.shares)}S`] : [])].join(",");

type Listed = { expiration: string; calls: number[]; puts: number[] };

/** The leg a strike up or down, among those that are quoted. */
export function stepStrike(leg: Leg, listed: Listed[], by: 1 | -1): Leg {
  const of = listed.find((one) => one.expiration === leg.expiration);
  const strikes = (leg.isCall ? of?.calls : of?.puts) ?? [];
  const next =
    by > 0 ? strikes.find((k) => k > leg.strike + 1e-9) : [...strikes].reverse().find((k) => k < leg.strike - 1e-9);
  return next === undefined ? leg : { ...leg, strike: next };
}

/** The leg in the next or the previous expiration, at the nearest strike there. */
export function roll(leg: Leg, listed: Listed[], by: 1 | -1): Leg {
  const at = listed.findIndex((one) => one.expiration === leg.expiration);
  for (let place = at + by; place >= 0 && place < listed.length; place += by) {
    const of = listed[place] as Listed;
    const strikes = leg.isCall ? of.calls : of.puts;
    if (strikes.length === 0) continue;
    const strike = strikes.reduce((best, k) => (Math.abs(k - leg.strike) < Math.abs(best - leg.strike) ? k : best));
    return { ...leg, strike, expiration: of.expiration };
  }
  return leg;
}

/** One contract more bought or sold; never none. */
export const stepQuantity = (leg: Leg, by: 1 | -1): Leg => {
  const next = leg.quantity + by;
  return { ...leg, quantity: next === 0 ? by : Math.max(-1000, Math.min(1000, next)) };
};

/** Legs with one contract more bought or sold; what comes to nothing is gone. */
export function withLeg(legs: Legs, of: Omit<Leg, "quantity">, by: 1 | -1): Legs {
  const same = (leg: Leg) => leg.strike === of.strike && leg.isCall === of.isCall && leg.expiration === of.expiration;
  if (!legs.options.some(same))
    return legs.options.length < 8 ? { ...legs, options: [...legs.options, { ...of, quantity: by }] } : legs;
  const options = legs.options.map((leg) => (same(leg) ? { ...leg, quantity: leg.quantity + by } : leg));
  return { ...legs, options: options.filter((leg) => leg.quantity !== 0) };
}
