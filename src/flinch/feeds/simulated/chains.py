"""Quoted option chains: strikes, two-sided quotes by liquidity, volume and open interest."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.pricing import greeks, option_price
from flinch.feeds.simulated.names import SIZES, Listing
from flinch.feeds.simulated.surfaces import Smile, smile_vol

Floats = NDArray[np.float64]
RATE = 0.03
_NICE = np.array([0.5, 1, 2.5, 5, 10, 25, 50, 100])


class Expiries(NamedTuple):
    """Listed expiries of all names, shape (expiries,), ordered by name and date."""

    name: NDArray[np.int64]
    expiration: NDArray[np.datetime64]
    years: Floats
    vol: Floats


class Chain(NamedTuple):
    """Contracts of all names, shape (contracts,), ordered by name, expiration, strike, call before put."""

    expiry: NDArray[np.int64]
    strike: Floats
    is_call: NDArray[np.bool_]
    bid: Floats
    ask: Floats
    volume: NDArray[np.int64]
    open_interest: NDArray[np.int64]


def _strikes(spot: float, deviation: float, share: float, most: int) -> Floats:
    """Round strikes around `spot`, out to three and a half deviations and `most` on each side."""
    step = _NICE[np.argmin(np.abs(np.log(_NICE / (share * spot))))]
    reach = int(np.clip(np.ceil(3.5 * deviation * spot / step), 4, most))
    centre = np.round(spot / step)
    strikes = step * np.arange(centre - reach, centre + reach + 1)
    kept: Floats = strikes[strikes > 0.3 * spot]
    return kept


def quote_chain(
    names: list[Listing],
    spot: Floats,
    carry: Floats,
    expiries: Expiries,
    smile: Smile,
    option_volume: NDArray[np.int64],
    halted: NDArray[np.bool_],
    rng: np.random.Generator,
) -> Chain:
    """Quotes of every listed contract.

    `spot`, `carry` (dividend yield), `option_volume` (contracts today) and `halted` are per name. One draw of volatility
    noise per strike serves call and put, so parity holds up to the tick. A halted name has interest but no quotes.
    """
    rows: list[Floats] = []
    for i, vol, years in zip(expiries.name, expiries.vol, expiries.years, strict=True):
        traits = SIZES[names[i].size]
        wide = 1.0 if years < 0.25 else 2.0
        rows.append(
            _strikes(float(spot[i]), float(vol * np.sqrt(years)), traits.strike_step * wide, traits.max_strikes)
        )
    expiry = np.repeat(np.arange(len(rows)), [row.size for row in rows])
    strike = np.concatenate(rows)
    owner = expiries.name[expiry]
    years, atm = expiries.years[expiry], expiries.vol[expiry]
    moneyness = np.log(strike / (spot[owner] * np.exp((RATE - carry[owner]) * years)))
    half_spread = np.array([SIZES[name.size].half_spread_vol for name in names])[owner]
    fair = smile_vol(atm, moneyness, years, smile.rho[owner], smile.eta[owner])
    noisy = np.maximum(fair + 0.25 * half_spread * rng.normal(size=fair.size), 0.02)

    # Two contracts a strike: call, then put.
    pair = np.repeat(np.arange(strike.size), 2)
    is_call = np.tile([True, False], strike.size)
    contract = (spot[owner[pair]], strike[pair], years[pair], noisy[pair])
    terms: dict[str, Any] = {"is_call": is_call, "rate": RATE, "dividend_yield": carry[owner[pair]]}
    # Options on companies and funds may be exercised early, those on an index may not.
    early = np.array([name.kind != "index" for name in names])[owner[pair]]
    price = np.where(early, option_price(*contract, **terms, exercise="american"), option_price(*contract, **terms))
    vega = greeks(*contract, **terms).vega
    deviation = moneyness / (atm * np.sqrt(years))
    tick = np.array([0.1 if n.kind == "index" else 0.01 if n.size == "large" else 0.05 for n in names])[owner][pair]
    half = 100 * vega * half_spread[pair] * (1 + 0.4 * np.abs(deviation[pair])) + 0.0015 * price
    half = np.maximum(half, 0.5 * tick)
    bid = np.maximum(np.floor((price - half) / tick + 1e-9) * tick, 0.0)
    ask = np.maximum(np.ceil((price + half) / tick - 1e-9) * tick, bid + tick)
    quoted = ~halted[owner[pair]]
    bid, ask = np.where(quoted, np.round(bid, 2), np.nan), np.where(quoted, np.round(ask, 2), np.nan)

    round_strike = np.where(np.isclose(strike % (5 * 10 ** np.floor(np.log10(strike) - 1)), 0), 1.6, 1.0)
    pull = np.exp(-0.5 * (deviation / 0.9) ** 2 - 3.0 * years) * round_strike + 1e-3
    lean = np.exp(rng.normal(0.0, 0.8, pair.size)) * np.where(is_call == (deviation[pair] > 0), 1.4, 0.7)
    volume = _share_out(option_volume, owner[pair], pull[pair] * lean, rng)
    day = expiries.expiration[expiry]
    dom = (day - day.astype("datetime64[M]").astype("datetime64[D]")).astype(int) + 1
    monthly = np.where((dom >= 14) & (dom <= 21), 2.2, 0.6)
    held = np.exp(-0.5 * (deviation / 1.5) ** 2 - 0.8 * years) * round_strike * monthly + 2e-3
    interest = _share_out(
        (option_volume * rng.uniform(9, 22, option_volume.size)).astype(np.int64),
        owner[pair],
        held[pair] * np.exp(rng.normal(0.0, 0.7, pair.size)),
        rng,
    )
    return Chain(expiry[pair], strike[pair], is_call, bid, ask, volume, interest)


def _share_out(
    total: NDArray[np.int64], owner: NDArray[np.int64], weight: Floats, rng: np.random.Generator
) -> NDArray[np.int64]:
    """Whole contracts by weight that add up to each name's total exactly."""
    out = np.zeros(owner.size, dtype=np.int64)
    starts = np.searchsorted(owner, np.arange(total.size + 1))
    for i in range(total.size):
        part = slice(starts[i], starts[i + 1])
        share = weight[part]
        if share.size:
            out[part] = rng.multinomial(total[i], share / share.sum())
    return out
