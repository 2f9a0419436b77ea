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
