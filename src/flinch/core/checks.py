"""What is likely wrong with prices, strikes and quotes, told by arithmetic alone."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray

_USUAL = np.array([2, 3, 4, 5, 6, 7, 8, 10, 15, 20, 25, 30, 40, 50])
RATIOS: FloatArray = np.sort(np.concatenate([_USUAL, 1 / _USUAL]).astype(np.float64))
"""New shares for an old one that splits are usually made at, in order. Three for two is left out: a report moves price as far."""
_NEAR = np.log(1.05)
NEAR_PRICE = 0.1
"""How far from the price, as a share of it, strikes are held against each other."""
_FEWEST, _LEEWAY = 5, 0.0025


class Jumps(NamedTuple):
    """Jumps that a split would explain, shape (jumps,): row of the name, session (an index), new shares for an old one."""

    name: IntArray
    session: IntArray
    ratio: FloatArray


def split_jumps(open_: FloatArray, close: FloatArray) -> Jumps:
    """Jumps from a close to the next open that are as large as a usual split would make them.

    Parameters
    ----------
    open_, close
        Prices, shape (names, sessions); NaN where there is no bar. The close before is the last one that there is.

    Returns
    -------
    Jumps
        Those whose size lies within 5 % of a usual ratio; ratios below one are reverse splits.
    """
    before = _last_known(close)[:, :-1]
    with np.errstate(invalid="ignore", divide="ignore"):
        jump = np.log(before / open_[:, 1:])
    logs = np.log(RATIOS)
    place = np.clip(np.searchsorted(logs, jump), 1, logs.size - 1)
    nearer = np.where(np.abs(jump - logs[place - 1]) <= np.abs(jump - logs[place]), place - 1, place)
    with np.errstate(invalid="ignore"):
        found = np.abs(jump - logs[nearer]) <= _NEAR
    name, session = np.nonzero(found)
    return Jumps(name, session + 1, RATIOS[nearer[name, session]])


def _last_known(values: FloatArray) -> FloatArray:
    """Each value, or the last one before it that is there; NaN before the first."""
    place = np.where(np.isfinite(values), np.arange(values.shape[1]), 0)
    np.maximum.accumulate(place, axis=1, out=place)
    known: FloatArray = np.take_along_axis(values, place, axis=1)
    return known


def strikes_apart(spot: FloatArray, median_strike: FloatArray) -> FloatArray:
    """How many times the underlying's price the middle strike of a name is, where that is ten or a hundred times too much or too
    little; NaN elsewhere. Shape (names,) each, NaN where one is missing."""
    with np.errstate(invalid="ignore", divide="ignore"):
        times = median_strike / spot
        power = np.round(np.log10(times))
        odd = (np.abs(power) >= 1) & (np.abs(np.log10(times) - power) <= np.log10(2))
    apart: FloatArray = np.where(odd, 10.0**power, np.nan)
    return apart


def near_price(strike: FloatArray, spot: FloatArray) -> BoolArray:
    """Whether strikes lie within a tenth of the underlying's price."""
    near: BoolArray = np.abs(strike / spot - 1) <= NEAR_PRICE + 1e-9
    return near


def parity_broken(
    group: IntArray, strike: FloatArray, gap: FloatArray, width: FloatArray, spot: FloatArray, discount: FloatArray
) -> BoolArray:
    """Strikes whose call and put do not fit those of the others of their expiration.

    Put and call of one strike tell the forward: the strike plus what the call is worth more, over the discount. Near the price
    early exercise moves that little, so all strikes of an expiration have to tell the same, within what their quotes leave open.

    Parameters
    ----------
    group
        The expiration of each strike, 0 to n, shape (strikes,).
    strike, gap, width
        The strike, the mid of its call less that of its put, and the widths of both quotes together; NaN where one is missing.
    spot, discount
        The underlying's price, and what a dollar at the expiration is worth now.

    Returns
    -------
    BoolArray
        Whether a strike is off the middle of its expiration by more than half of that width and a quarter percent of the price;
        shape (strikes,). Of strikes further than a tenth from the price, and of fewer than five, nothing is said.
    """
    forward = strike + gap / discount
    with np.errstate(invalid="ignore"):
        told = np.isfinite(forward) & near_price(strike, spot)
    out = np.zeros(group.size, dtype=bool)
    order = np.lexsort((forward, group))
    order = order[told[order]]
    if not order.size:
        return out
    groups, first, count = np.unique(group[order], return_index=True, return_counts=True)
    middle = np.full(int(group.max()) + 1, np.nan)
    low, high = first + (count - 1) // 2, first + count // 2
    enough = count >= _FEWEST
    middle[groups[enough]] = ((forward[order][low] + forward[order][high]) / 2)[enough]
    with np.errstate(invalid="ignore"):
        off = np.abs(forward - middle[group]) * discount > width / 2 + _LEEWAY * spot
    out[order] = off[order]
    return out
