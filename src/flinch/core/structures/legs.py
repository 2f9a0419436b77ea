"""One structure where all legs end together: payoff, breakevens, extremes, and the chance of a profit under one volatility."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.pricing.normal import normal_cdfs

MULTIPLIER = 100.0
MOST_LEGS = 8


class Legs(NamedTuple):
    """A structure's options, arrays of shape (legs,): signed quantity (+ bought), whether a call, strike, years to expiration."""

    quantity: FloatArray
    is_call: BoolArray
    strike: FloatArray
    expiry: FloatArray


def check_legs(legs: Legs, shares: float) -> None:
    """Raises ValueError where there is nothing, too much, or something that cannot be: a quantity of zero, a strike at or below
    zero, more than `MOST_LEGS` legs."""
    count = legs.strike.size
    if count == 0 and shares == 0:
        raise ValueError("a structure needs a leg or shares")
    if count > MOST_LEGS:
        raise ValueError(f"a structure has {MOST_LEGS} legs at most, not {count}")
    if not all(np.isfinite(a).all() for a in (legs.quantity, legs.strike, legs.expiry)) or not np.isfinite(shares):
        raise ValueError("a leg's quantity, strike and expiration must be known")
    if (legs.quantity == 0).any():
        raise ValueError("a leg's quantity must not be zero")
    if (legs.strike <= 0).any():
        raise ValueError("a leg's strike must be above zero")


def expiry_payoff(legs: Legs, shares: float, spots: ArrayLike, *, multiplier: float = MULTIPLIER) -> FloatArray:
    """What a structure is worth when all its legs end, before what it cost.

    Parameters
    ----------
    legs
        All of one expiration.
    shares
        Shares held beside them, below zero for sold ones.
    spots
        Prices of the name then, any shape.
    multiplier
        Shares a contract stands for.

    Returns
    -------
    $ per unit of the structure, in the shape of `spots`.

    Raises
    ------
    ValueError
        As `check_legs`, or when the legs end at different times.
    """
    check_legs(legs, shares)
    if legs.expiry.size and np.ptp(legs.expiry) > 0:
        raise ValueError("the legs end at different times: value what lives on instead")
    at = np.asarray(spots, dtype=np.float64)
    sign = np.where(legs.is_call, 1.0, -1.0)
    exercised = np.maximum(sign * (at[..., None] - legs.strike), 0.0)
    worth: FloatArray = shares * at + multiplier * (exercised * legs.quantity).sum(axis=-1)
    return worth


def _corners(legs: Legs, shares: float, cost: float, multiplier: float) -> tuple[FloatArray, FloatArray, float]:
    """Zero and the strikes, the profit at each, and its slope above the last one."""
    x = np.unique(np.concatenate([[0.0], legs.strike]))
    y = expiry_payoff(legs, shares, x, multiplier=multiplier) - cost
    slope = shares + multiplier * float(legs.quantity[legs.is_call].sum())
    return x, y, slope


def breakevens(legs: Legs, shares: float, cost: float, *, multiplier: float = MULTIPLIER) -> FloatArray:
    """Prices above zero at which a structure's profit changes its sign when all legs end, ascending, exact.

    `cost` is what was paid for a unit in $, below zero for a credit. A stretch of prices without profit or loss has its two ends.
    Raises ValueError as `expiry_payoff`.
    """
    x, y, slope = _corners(legs, shares, cost, multiplier)
    found: list[float] = []
    for i in range(x.size - 1):
        if y[i] * y[i + 1] < 0:
            found.append(float(x[i] - y[i] * (x[i + 1] - x[i]) / (y[i + 1] - y[i])))
    found += [float(at) for at, profit, i in zip(x, y, range(x.size), strict=True)
              if profit == 0 and at > 0 and _turns(y, slope, i)]  # fmt: skip
    if y[-1] * slope < 0:
        found.append(float(x[-1] - y[-1] / slope))
    return np.array(sorted(found))


def _turns(y: FloatArray, slope: float, i: int) -> bool:
    """Whether a corner without profit ends a stretch with one: not when it is within, or merely touched from one side."""
    before = np.sign(y[i - 1])
    after = np.sign(y[i + 1]) if i + 1 < y.size else np.sign(slope)
    return bool(before != after)


def extremes(legs: Legs, shares: float, cost: float, *, multiplier: float = MULTIPLIER) -> tuple[float, float]:
    """Greatest profit and greatest loss (below zero) of a unit when all legs end, in $; infinite when unbounded.

    Raises ValueError as `expiry_payoff`.
    """
    _, y, slope = _corners(legs, shares, cost, multiplier)
    return (float("inf") if slope > 0 else float(y.max())), (float("-inf") if slope < 0 else float(y.min()))


def lognormal_chance(
    legs: Legs,
    shares: float,
    cost: float,
    spot: float,
    vol: float,
    years: float,
    *,
    rate: float = 0.0,
    dividend_yield: float = 0.0,
    multiplier: float = MULTIPLIER,
) -> float:
    """Chance that a structure ends with a profit under one volatility (Black & Scholes 1973).

    Parameters
    ----------
    legs, shares, cost, multiplier
        As for `breakevens`.
    spot, vol, years, rate, dividend_yield
        As for `option_price`; `years` above zero.

    Returns
    -------
    A decimal; NaN where an argument is missing or `vol` or `years` is not above zero. Raises ValueError as `expiry_payoff`.
    """
    # Between strikes and breakevens a structure has a profit everywhere or nowhere.
    edges = np.union1d(breakevens(legs, shares, cost, multiplier=multiplier), legs.strike)
    if not (vol > 0 and years > 0 and spot > 0 and np.isfinite(cost)):
        return float("nan")
    deviation = vol * np.sqrt(years)
    mean = np.log(spot) + (rate - dividend_yield - 0.5 * vol * vol) * years
    below = np.concatenate([[0.0], normal_cdfs((np.log(edges) - mean) / deviation), [1.0]])
    ends = np.concatenate([[0.0], edges, [2 * edges.max(initial=spot)]])
    middle = 0.5 * (ends[1:] + ends[:-1])
    profit = expiry_payoff(legs, shares, middle, multiplier=multiplier) > cost
    return float(np.diff(below)[profit].sum())
