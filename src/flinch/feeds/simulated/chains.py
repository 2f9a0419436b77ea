"""Quoted option chains: two-sided quotes by liquidity of every listed contract, at a close or during the session."""

from __future__ import annotations

import datetime as dt
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.pricing import exercised_early, greeks, option_price
from flinch.feeds.simulated.ground import Ground
from flinch.feeds.simulated.interest import RATE, Book, Expiries, Floats
from flinch.feeds.simulated.names import SIZES
from flinch.feeds.simulated.surfaces import smile_vol

_EARLY_VOLS = np.array([0.75, 1.0, 1.45])
"""Volatilities, against the one at the money, at which early exercise is valued; between them it is a parabola."""


class Chain(NamedTuple):
    """Contracts of all names, shape (contracts,), ordered by name, expiration, strike, call before put."""

    expiry: NDArray[np.int64]
    strike: Floats
    is_call: NDArray[np.bool_]
    bid: Floats
    ask: Floats
    volume: NDArray[np.int64]
    open_interest: NDArray[np.int64]


class Snapshot(NamedTuple):
    """All chains at one moment. `session` is an index, `spot` by name; the expiries' years count from the moment, and their
    volatility at the money is the true one. `volume` of the chain is that of the session so far."""

    taken_at: dt.datetime
    session: int
    spot: Floats
    expiries: Expiries
    chain: Chain


def quote_book(
    ground: Ground,
    book: Book,
    expiries: Expiries,
    spot: Floats,
    traded: Floats,
    halted: NDArray[np.bool_],
    rng: np.random.Generator,
    who: NDArray[np.bool_] | None = None,
) -> Chain:
    """Quotes of every contract of a book, or of those of the names `who`, the others being without.

    `spot`, `traded` (the share of the session's volume so far) and `halted` are per name. One
    draw of volatility noise per strike serves call and put, so parity holds up to the tick. A halted name has interest but no
    quotes.
    """
    names, carry, smiles = ground.names, ground.carry, ground.smiles
    rho, eta = smiles.rho[:, book.session], smiles.eta[:, book.session]
    owner = expiries.name[book.expiry]
    years, atm = expiries.years[book.expiry], expiries.vol[book.expiry]
    price, strike = spot[owner], book.strike
    moneyness = np.log(strike / (price * np.exp((RATE - carry[owner]) * years)))
    half_spread = np.array([SIZES[name.size].half_spread_vol for name in names])[owner]
    fair = smile_vol(atm, moneyness, years, rho[owner], eta[owner])
    noisy = np.maximum(fair + 0.25 * half_spread * rng.normal(size=fair.size), 0.02)
    deviation = np.abs(moneyness / (atm * np.sqrt(years)))
    early = exercised_early([name.kind for name in names])[owner]
    tick = np.array([0.1 if n.kind == "index" else 0.01 if n.size == "large" else 0.05 for n in names])[owner]
    asked = np.ones(owner.size, dtype=bool) if who is None else who[owner]
    quoted = (~halted[owner])[asked]
    price, years, atm, noisy, early = price[asked], years[asked], atm[asked], noisy[asked], early[asked]
    half_spread, deviation, tick, paid = half_spread[asked], deviation[asked], tick[asked], carry[owner][asked]
    columns = []
    for is_call in (True, False):
        at = price, strike[asked], years
        terms: dict[str, Any] = {"is_call": is_call, "rate": RATE, "dividend_yield": paid}
        fair_price = option_price(*at, noisy, **terms)
        added = _early_exercise(*(values[early] for values in (*at, atm, noisy, paid)), is_call=is_call)
        intrinsic = np.maximum(price - strike[asked] if is_call else strike[asked] - price, 0.0)
        fair_price[early] = np.maximum(fair_price[early] + added, intrinsic[early])
        vega = greeks(*at, noisy, **terms).vega
        half = 100 * vega * half_spread * (1 + 0.4 * deviation) + 0.0015 * fair_price
        half = np.maximum(half, 0.5 * tick)
        bid = np.maximum(np.floor((fair_price - half) / tick + 1e-9) * tick, 0.0)
        ask = np.maximum(np.ceil((fair_price + half) / tick - 1e-9) * tick, bid + tick)
        sides = np.full((2, strike.size), np.nan)
        sides[:, asked] = np.where(quoted, np.round([bid, ask], 2), np.nan)
        columns.append(sides)
    share = np.clip(traded, 0.0, 1.0)[owner]
    volumes = [rng.binomial(volume, share) for volume in (book.call_volume, book.put_volume)]

    def pairs(call: NDArray[Any], put: NDArray[Any]) -> NDArray[Any]:
        return np.stack([call, put], axis=1).reshape(-1)

    (call_bid, call_ask), (put_bid, put_ask) = columns
    return Chain(
        np.repeat(book.expiry, 2),
        np.repeat(strike, 2),
        np.tile([True, False], strike.size),
        pairs(call_bid, put_bid),
        pairs(call_ask, put_ask),
        pairs(*volumes),
        pairs(book.call_interest, book.put_interest),
    )


def _early_exercise(
    spot: Floats, strike: Floats, years: Floats, atm: Floats, vol: Floats, carry: Floats, *, is_call: bool
) -> Floats:
    """What early exercise adds to each price.

    Valued at a few volatilities an expiration, whose strikes then share a boundary, and read off a parabola between them: for a
    spot of 100 within 0.001 out of the money, and within 0.2 deep in it.
    """
    terms: dict[str, Any] = {"is_call": is_call, "rate": RATE, "dividend_yield": carry}
    added = []
    for factor in _EARLY_VOLS:
        at = (spot, strike, years, factor * atm)
        added.append(option_price(*at, **terms, exercise="american") - option_price(*at, **terms))
    x = np.clip(vol / atm, 0.5, 2.5)
    a, b, c = _EARLY_VOLS
    weights = (
        (x - b) * (x - c) / ((a - b) * (a - c)),
        (x - a) * (x - c) / ((b - a) * (b - c)),
        (x - a) * (x - b) / ((c - a) * (c - b)),
    )
    values: Floats = np.maximum(sum(w * e for w, e in zip(weights, added, strict=True)), 0.0)
    return values
