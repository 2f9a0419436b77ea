"""Open interest: how it changes, where it sits, and what two equal amounts of it look like."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray, group_bounds, over_groups, writable
from flinch.core.compiled import njit

SMALL_BASE = 100
"""Below so many contracts before, a percentage says nothing."""


class InterestChange(NamedTuple):
    """Change of open interest, any one shape: contracts first; percent as a decimal with the mark that its base is small."""

    contracts: FloatArray
    percent: FloatArray
    small_base: BoolArray


def interest_change(now: FloatArray, before: FloatArray) -> InterestChange:
    """Change of open interest.

    Parameters
    ----------
    now, before
        Contracts, any one shape. `before` is NaN for a contract that was not listed then: all of it is new.

    Returns
    -------
    `InterestChange`. `percent` is NaN on a base of nothing; `small_base` where the earlier figure is below 100 or there was
    none. NaN contracts where `now` is missing.
    """
    base = np.nan_to_num(before)
    contracts = now - base
    with np.errstate(divide="ignore", invalid="ignore"):
        percent = np.where(base > 0, contracts / base, np.nan)
    return InterestChange(contracts, percent, base < SMALL_BASE)


def put_call_ratio(puts: FloatArray, calls: FloatArray) -> FloatArray:
    """Puts for each call, of volume or of open interest, any one shape; NaN without calls."""
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio: FloatArray = np.where(calls > 0, puts / calls, np.nan)
    return ratio


_TOP = 5


class ByStrike(NamedTuple):
    """How an amount lies over a name's strikes, all expiries together, shape (names,): the strike with most of it, and the
    share, a decimal, that lies in the five with most."""

    peak: FloatArray
    top_share: FloatArray


@njit("void(i8, i8, i8[::1], f8[::1], f8[:, ::1], f8[:, ::1], f8[:, ::1])", cache=True, nogil=True, error_model="numpy")
def _strike_kernel(
    first: int,
    last: int,
    bounds: IntArray,
    strike: FloatArray,
    amounts: FloatArray,
    peak: FloatArray,
    share: FloatArray,
) -> None:
    largest = np.empty(_TOP)
    for g in range(first, last):
        begin, end = bounds[g], bounds[g + 1]
        order = np.argsort(strike[begin:end])
        for kind in range(amounts.shape[0]):
            peak[kind, g] = share[kind, g] = math.nan
            largest[:] = 0.0
            whole, most = 0.0, 0.0
            i = 0
            while i < order.size:
                here, total = strike[begin + order[i]], 0.0
                while i < order.size and strike[begin + order[i]] == here:
                    value = amounts[kind, begin + order[i]]
                    if value == value:
                        total += value
                    i += 1
                whole += total
                if total > most:
                    most, peak[kind, g] = total, here
                least = 0
                for place in range(_TOP):
                    if largest[place] < largest[least]:
                        least = place
                if total > largest[least]:
                    largest[least] = total
            if whole > 0.0:
                share[kind, g] = largest.sum() / whole


def by_strike(name: IntArray, strike: FloatArray, amounts: Sequence[FloatArray], names: int) -> list[ByStrike]:
    """Where amounts (open interest, or exposure without sign) lie.

    Parameters
    ----------
    name, strike
        Shape (rows,), in order of `name`.
    amounts
        Each of the same shape; a missing one counts for nothing.
    names
        How many names there are.

    Returns
    -------
    `ByStrike` of each amount: of equal strikes the lower one; NaN where there is nothing.
    """
    bounds = group_bounds(name, names)
    per_strike = writable(np.stack(amounts))
    peak, share = np.empty((2, per_strike.shape[0], names))
    strike = writable(strike)
    over_groups(lambda first, last: _strike_kernel(first, last, bounds, strike, per_strike, peak, share), bounds)
    return [ByStrike(*found) for found in zip(peak, share, strict=True)]


class LikelySpread(NamedTuple):
    """Two contracts of one expiry and right in which about as much was opened: rows of the arrays given, and how much."""

    lower: int
    upper: int
    contracts: float


def likely_spreads(
    expiry: IntArray,
    strike: FloatArray,
    is_call: BoolArray,
    opened: FloatArray,
    *,
    least: float = SMALL_BASE,
    tolerance: float = 0.01,
) -> list[LikelySpread]:
    """Amounts of open interest of one size at two strikes of one expiry, which are likely to be one trade.

    Parameters
    ----------
    expiry, strike, is_call, opened
        Shape (contracts,); `opened` in contracts, NaN or below `least` takes no part.
    least
        Smallest size looked at.
    tolerance
        How far the two may be apart, as a share of the larger.

    Returns
    -------
    Pairs, largest first; each contract in one pair at most, with the one nearest to it in size. Equal sizes can be chance: the
    smaller they are, the likelier.
    """
    together: dict[tuple[int, bool], list[int]] = {}
    for row in np.flatnonzero(np.nan_to_num(opened) >= least).tolist():
        together.setdefault((int(expiry[row]), bool(is_call[row])), []).append(row)
    candidates = []
    for rows in together.values():
        for a, b in itertools.combinations(rows, 2):
            apart = abs(opened[a] - opened[b]) / max(opened[a], opened[b])
            if apart <= tolerance and strike[a] != strike[b]:
                candidates.append((apart, -min(opened[a], opened[b]), a, b))
    found, used = [], set()
    for _, size, a, b in sorted(candidates):
        if a not in used and b not in used:
            used |= {a, b}
            lower, upper = (a, b) if strike[a] < strike[b] else (b, a)
            found.append(LikelySpread(lower, upper, float(-size)))
    return sorted(found, key=lambda pair: -pair.contracts)
