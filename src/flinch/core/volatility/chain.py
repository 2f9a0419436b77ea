"""From a market's quoted chains to one row per expiry: forward, at-the-money volatility, straddle."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.moves.straddle import atm_straddle
from flinch.core.pricing import forwards_from_parity, greeks, implied_vol, usable_quote
from flinch.core.volatility.smile import fit_smiles


class ChainQuotes(NamedTuple):
    """Quotes by strike row, shape (rows,): expiry index, strike, and both sides' bid and ask (NaN where not quoted)."""

    group: IntArray
    strike: FloatArray
    call_bid: FloatArray
    call_ask: FloatArray
    put_bid: FloatArray
    put_ask: FloatArray


class ExpirySummary(NamedTuple):
    """Per expiry, shape (groups,); volatilities are annualised decimals, money per share."""

    forward: FloatArray
    forward_from_parity: BoolArray
    vol: FloatArray
    strikes: IntArray
    straddle: FloatArray
    straddle_strike: FloatArray


def summarise_expiries(quotes: ChainQuotes, *, spot: FloatArray, years: FloatArray, rate: float) -> ExpirySummary:
    """Forward, fitted at-the-money volatility and straddle of every expiry, in one pass over all contracts.

    Parameters
    ----------
    quotes
        By strike row.
    spot, years
        Per expiry, shape (groups,); price units and years of 365 days.
    rate
        Continuously compounded, as a decimal.

    Returns
    -------
    `ExpirySummary`. `vol` and `straddle` are NaN where no usable quote allows them.

    Notes
    -----
    Puts below the forward and calls above it; a quote counts when `usable_quote` says so.
    """

    def mid(bid: FloatArray, ask: FloatArray) -> FloatArray:
        return np.where(usable_quote(bid, ask), 0.5 * (bid + ask), np.nan)

    call_mid, put_mid = mid(quotes.call_bid, quotes.call_ask), mid(quotes.put_bid, quotes.put_ask)
    forward, from_parity = forwards_from_parity(
        quotes.group, quotes.strike, call_mid, put_mid, spot=spot, years=years, rate=rate
    )
    g = quotes.group
    row_forward, row_years = forward[g], years[g]
    is_call = quotes.strike >= row_forward
    price = np.where(is_call, call_mid, put_mid)
    width = np.where(is_call, quotes.call_ask - quotes.call_bid, quotes.put_ask - quotes.put_bid)
    present = row_forward * np.exp(-rate * row_years)
    vol = implied_vol(price, present, quotes.strike, row_years, is_call=is_call, rate=rate)
    vega = greeks(present, quotes.strike, row_years, vol, is_call=is_call, rate=rate).vega
    with np.errstate(invalid="ignore", divide="ignore"):
        spread = width / (100.0 * vega)
        moneyness = np.log(quotes.strike / row_forward)
    fit = fit_smiles(g, moneyness, vol, spread, years=years)
    straddle = atm_straddle(g, quotes.strike, call_mid, put_mid, forward=forward)
    return ExpirySummary(forward, from_parity, fit.vol, fit.strikes, straddle.price, straddle.strike)


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
