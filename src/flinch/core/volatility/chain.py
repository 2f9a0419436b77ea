"""From a market's quoted chains to one row per expiry: forward, fitted surface and its quality, straddle."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray, smallest_rows
from flinch.core.moves.straddle import atm_straddle
from flinch.core.pricing import (
    early_exercise_value,
    forwards_from_parity,
    greeks,
    implied_vol,
    option_price,
    usable_quote,
)
from flinch.core.volatility.smile import SmileFit, delta_vol, fit_smiles, smile_vol

FULL_FIT = 6
"""Strikes from which on the fit quality is taken as it is."""
FLAWS = (
    "",
    "too few strikes are quoted",
    "most quotes are too wide to use",
    "quotes are crossed",
    "calls and puts disagree: quotes look stale",
    "the fitted curve misses the quotes",
    "the last session of this expiration is over",
    "nothing is quoted",
    "below the quoted strikes the curve is a guess",
    "above the quoted strikes the curve is a guess",
    "beyond the quoted strikes the curve is a guess",
)
_NO_FLAW, _FEW, _WIDE, _CROSSED, _STALE, _MISSED, _OVER, _NOTHING, _LOW, _HIGH, _BOTH = range(len(FLAWS))
_GOOD = 75.0
_REACHES = 1.0
"""Deviations from the forward up to which usable quotes must reach for the wing to be read and not guessed."""


class ChainQuotes(NamedTuple):
    """Quotes by strike row, shape (rows,): expiry index, strike, and both sides' bid and ask (NaN where not quoted)."""

    group: IntArray
    strike: FloatArray
    call_bid: FloatArray
    call_ask: FloatArray
    put_bid: FloatArray
    put_ask: FloatArray


class ExpirySummary(NamedTuple):
    """Per expiry, shape (groups,); volatilities are annualised decimals, money per share.

    `carry` is the yield that makes spot grow to the forward: dividends and the cost of borrowing the stock together. `quality`
    is 0 to 100, `flaw` an index of `FLAWS`: why it is low, or that it says nothing about a wing. The fit rests on quotes from
    `lowest_strike` to `highest_strike`; beyond them the curve is a guess.
    """

    forward: FloatArray
    forward_from_parity: BoolArray
    carry: FloatArray
    fit: SmileFit
    quality: FloatArray
    flaw: IntArray
    put_25d: FloatArray
    call_25d: FloatArray
    straddle: FloatArray
    straddle_strike: FloatArray
    lowest_strike: FloatArray
    highest_strike: FloatArray

    @property
    def vol(self) -> FloatArray:
        """Fitted volatility at the forward."""
        return self.fit.vol


def summarise_expiries(
    quotes: ChainQuotes,
    *,
    name: IntArray,
    spot: FloatArray,
    years: FloatArray,
    rate: float,
    american: BoolArray | None = None,
    dividends: FloatArray | None = None,
) -> ExpirySummary:
    """Forward, fitted surface and straddle of every expiry, in one pass over all contracts.

    Parameters
    ----------
    quotes
        By strike row.
    name, spot, years
        Per expiry, shape (groups,), ordered by name and time; price units and years of 365 days. An expiry without time left
        is not read.
    rate
        Continuously compounded, as a decimal.
    american
        Per expiry whether its options may be exercised early; none: all European. What early exercise is worth is taken off
        the quotes before anything is read from them.
    dividends
        Present value of the cash dividends to each expiry, for a forward without parity; none: zero.

    Returns
    -------
    `ExpirySummary`. Everything that no usable quote allows is NaN.

    Notes
    -----
    Puts below the forward and calls above it; a quote counts when `usable_quote` says so. The value of early exercise is
    that of Andersen, Lake & Offengenden (2016) at the volatility near the money.
    """
    groups = years.size
    early_exercise = np.zeros(groups, dtype=bool) if american is None else american
    left = years > 0
    years = np.where(left, years, np.nan)
    g, strike = quotes.group, quotes.strike

    def mid(bid: FloatArray, ask: FloatArray) -> FloatArray:
        return np.where(usable_quote(bid, ask) & left[g], 0.5 * (bid + ask), np.nan)

    call_mid, put_mid = mid(quotes.call_bid, quotes.call_ask), mid(quotes.put_bid, quotes.put_ask)
    forward, from_parity = forwards_from_parity(
        g, strike, call_mid, put_mid, spot=spot, years=years, rate=rate, dividends=dividends
    )
    early_call, early_put = np.zeros(g.size), np.zeros(g.size)
    if early_exercise.any():
        # What early exercise adds: around the money on both sides, for the forward once more, and out of the money.
        rough = _money_vol(g, strike, call_mid, put_mid, forward, years, rate)
        near = _nearest_two(g, strike, forward, np.isfinite(call_mid - put_mid))
        above = strike >= forward[g]
        for early, wanted, side in ((early_call, above | near, True), (early_put, ~above | near, False)):
            bids = quotes.call_bid if side else quotes.put_bid
            rows = np.flatnonzero(early_exercise[g] & wanted & (bids > 0))
            early[rows] = _early(strike[rows], g[rows], side, spot, years, rate, forward, rough)
        forward, from_parity = forwards_from_parity(
            g,
            strike,
            call_mid - early_call,
            put_mid - early_put,
            spot=spot,
            years=years,
            rate=rate,
            dividends=dividends,
        )
    with np.errstate(invalid="ignore", divide="ignore"):
        carry = rate - np.log(forward / spot) / years
    is_call = strike >= forward[g]
    price = np.where(is_call, call_mid, put_mid)
    bid = np.where(is_call, quotes.call_bid, quotes.put_bid)
    ask = np.where(is_call, quotes.call_ask, quotes.put_ask)
    early = np.where(is_call, early_call, early_put)
    present, t = (forward * np.exp(-rate * years))[g], years[g]
    vol = implied_vol(price - early, present, strike, t, is_call=is_call, rate=rate)
    vega = greeks(present, strike, t, vol, is_call=is_call, rate=rate).vega
    with np.errstate(invalid="ignore", divide="ignore"):
        spread = (ask - bid) / (100.0 * vega)
        moneyness = np.log(strike / forward[g])
    fit = fit_smiles(g, moneyness, vol, spread, name=name, years=np.where(left, years, 0.0))
    fitted = option_price(
        present, strike, t, smile_vol(fit.parameters[g], t, moneyness), is_call=is_call, rate=rate
    )  # fmt: skip
    quality, flaw = _quality(quotes, fit, fitted + early, bid, ask, call_mid, put_mid, forward, years, rate, left)
    straddle = atm_straddle(g, strike, call_mid, put_mid, forward=forward)
    put_25d, call_25d = (delta_vol(fit, years, 0.25, is_call=side) for side in (False, True))
    lowest, highest = forward * np.exp(fit.low), forward * np.exp(fit.high)
    return ExpirySummary(
        forward, from_parity, carry, fit, quality, flaw, put_25d, call_25d, straddle.price, straddle.strike, lowest, highest
    )  # fmt: skip


def _nearest_two(group: IntArray, strike: FloatArray, centre: FloatArray, usable: BoolArray) -> BoolArray:
    """The two usable rows of each group nearest to its centre."""
    distance = np.where(usable, np.abs(strike - centre[group]), np.nan)
    out = np.zeros(group.size, dtype=bool)
    for _ in range(2):
        rows = smallest_rows(group, distance, centre.size)
        out[rows[rows >= 0]] = True
        distance[rows[rows >= 0]] = np.nan
    return out


def _money_vol(
    group: IntArray,
    strike: FloatArray,
    call_mid: FloatArray,
    put_mid: FloatArray,
    forward: FloatArray,
    years: FloatArray,
    rate: float,
) -> FloatArray:
    """European implied volatility of the out-of-the-money option nearest to each forward; NaN without one."""
    price = np.where(strike >= forward[group], call_mid, put_mid)
    distance = np.where(np.isfinite(price), np.abs(strike - forward[group]), np.nan)
    rows = smallest_rows(group, distance, forward.size)
    rows = rows[rows >= 0]
    owner = group[rows]
    out = np.full(forward.shape, np.nan)
    present = forward[owner] * np.exp(-rate * years[owner])
    out[owner] = implied_vol(
        price[rows], present, strike[rows], years[owner], is_call=strike[rows] >= forward[owner], rate=rate
    )
    return out


def _early(
    strike: FloatArray,
    group: IntArray,
    is_call: bool,
    spot: FloatArray,
    years: FloatArray,
    rate: float,
    forward: FloatArray,
    vol: FloatArray,
) -> FloatArray:
    """What early exercise is worth at each strike; zero where it cannot be computed."""
    with np.errstate(invalid="ignore", divide="ignore"):
        carry = np.round(rate - np.log(forward / spot) / years, 6)
    found: FloatArray = early_exercise_value(
        spot[group], strike, years[group], vol[group], is_call=is_call, rate=rate, dividend_yield=carry[group]
    )
    return np.nan_to_num(found)


def _quality(
    quotes: ChainQuotes,
    fit: SmileFit,
    fitted: FloatArray,
    bid: FloatArray,
    ask: FloatArray,
    call_mid: FloatArray,
    put_mid: FloatArray,
    forward: FloatArray,
    years: FloatArray,
    rate: float,
    left: BoolArray,
) -> tuple[FloatArray, IntArray]:
    g, groups = quotes.group, years.size

    def counted(rows: BoolArray) -> FloatArray:
        return np.bincount(g[rows], minlength=groups).astype(np.float64)

    with np.errstate(invalid="ignore", divide="ignore"):
        quoted = (bid > 0) & (ask >= bid)
        inside = quoted & (fitted >= bid - 1e-9) & (fitted <= ask + 1e-9)
        share = counted(inside) / counted(quoted)
        quality = 100 * share * np.minimum(fit.strikes / FULL_FIT, 1.0)
        crossed = counted(ask < bid) / counted(np.isfinite(bid))
        wide = counted(quoted & ~usable_quote(bid, ask)) / counted(quoted)
        # Parity by more than both half-widths: one of the two was left behind.
        off = np.abs(call_mid - put_mid - np.exp(-rate * years[g]) * (forward[g] - quotes.strike))
        half = 0.5 * (quotes.call_ask - quotes.call_bid + quotes.put_ask - quotes.put_bid)
        both = np.isfinite(off)
        stale = counted(both & (off > half + 0.002 * quotes.strike + 0.02)) / counted(both)
    quality = np.where(np.isfinite(fit.vol), quality, np.nan)
    fine = (quality >= _GOOD) & (fit.strikes >= FULL_FIT)
    reach = _REACHES * fit.vol * np.sqrt(np.where(left, years, np.nan))
    low, high = fit.low > -reach, fit.high < reach
    reasons = [
        (~left, _OVER),
        (fine & low & high, _BOTH),
        (fine & low, _LOW),
        (fine & high, _HIGH),
        (fine, _NO_FLAW),
        (crossed > 0.1, _CROSSED),
        (counted(bid > 0) == 0, _NOTHING),
        (wide > 0.5, _WIDE),
        (fit.strikes < FULL_FIT, _FEW),
        (stale > 0.2, _STALE),
    ]
    return quality, np.select([r[0] for r in reasons], [r[1] for r in reasons], _MISSED).astype(np.int64)


def typical_width(
    quotes: ChainQuotes, name: IntArray, *, spot: FloatArray, years: FloatArray, count: int
) -> FloatArray:
    """How wide a name's options are quoted at the money: 100 x (ask - bid) / mid.

    Parameters
    ----------
    quotes
        By strike row.
    name
        Per expiry the name it belongs to, 0 to `count` - 1; shape (groups,).
    spot, years
        Per expiry, price units and years of 365 days.
    count
        Names.

    Returns
    -------
    Shape (count,), in percent: the mean of call and put at the strike nearest to spot where both are quoted, and of these the
    median over the expiries one week to two months ahead, or over all when there is none. NaN where nothing is quoted.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        sides = [
            np.where((bid > 0) & (ask >= bid), 200.0 * (ask - bid) / (ask + bid), np.nan)
            for bid, ask in ((quotes.call_bid, quotes.call_ask), (quotes.put_bid, quotes.put_ask))
        ]
    width = 0.5 * (sides[0] + sides[1])
    distance = np.abs(quotes.strike - spot[quotes.group])
    rows = np.flatnonzero(np.isfinite(width))
    rows = rows[np.lexsort((distance[rows], quotes.group[rows]))]
    groups, first = np.unique(quotes.group[rows], return_index=True)
    at_money = width[rows[first]]
    near = (years[groups] >= 6 / 365) & (years[groups] <= 62 / 365)
    owner = name[groups]
    usable = np.where(np.isin(owner, owner[near]), near, True)
    out = np.full(count, np.nan)
    for row in np.unique(owner):
        out[row] = np.median(at_money[(owner == row) & usable])
    return out
