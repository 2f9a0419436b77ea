"""What a ticket points at: whether it opened, its lean, what it comes to in shares, and how far price has gone since."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.flow.sides import Sides

OPENING = ("unknown", "likely", "certain", "confirmed")
UNKNOWN, LIKELY, CERTAIN, CONFIRMED = range(4)
LEAST_DELTA = 0.05
"""A package whose net delta a unit is smaller than this leans nowhere."""


def opening(
    contracts: ArrayLike, volume: ArrayLike, open_interest: ArrayLike, next_open_interest: ArrayLike = np.nan
) -> NDArray[np.int8]:
    """Whether tickets opened positions, places in `OPENING`.

    Parameters
    ----------
    contracts
        Of each ticket.
    volume
        Of its contract in the session so far, the ticket's own among it.
    open_interest, next_open_interest
        Of its contract this morning and the next one; NaN where it is not known yet. They broadcast.

    Returns
    -------
    *Confirmed* when the next morning's open interest rose by at least half the ticket; *certain* when volume exceeds the
    morning's open interest by at least the ticket; *likely* when the ticket alone exceeds it; else, and without open interest,
    *unknown*.
    """
    size, traded, before, after = (
        np.asarray(v, np.float64) for v in (contracts, volume, open_interest, next_open_interest)
    )
    with np.errstate(invalid="ignore"):
        tests = (after - before >= 0.5 * size, traded - before >= size, size > before)
    out = np.select(tests, (CONFIRMED, CERTAIN, LIKELY), UNKNOWN)
    return np.where(size > 0, out, UNKNOWN).astype(np.int8)


def ticket_lean(side: Sides, is_call: BoolArray) -> Sides:
    """Where tickets point: +1 up (calls on the ask side, puts on the bid side), -1 down, 0 for a side that nobody knows.

    A lean is a fact about a trade, not about its owner: what it hedges is not known.
    """
    return (side * np.where(is_call, 1, -1)).astype(np.int8)


def package_lean(
    package: IntArray, packages: int, units: IntArray, side: Sides, delta: FloatArray, contracts: IntArray
) -> Sides:
    """Where packages point: the sign of their net delta, shape (packages,).

    Parameters
    ----------
    package, side, delta, contracts
        Of each ticket, shape (tickets,): its package or -1, side, delta of one option, contracts.
    packages, units
        How many packages there are, and the units of each.

    Returns
    -------
    -1, 0 or +1; 0 when the net delta a unit is below 0.05, when a leg's side is not known, or its delta is missing.
    """
    inside = package >= 0
    signed = np.where(side == 0, np.nan, side * delta * contracts)
    net = np.bincount(package[inside], signed[inside], packages) / units
    return np.where(np.abs(net) >= LEAST_DELTA, np.sign(net), 0.0).astype(np.int8)


def share_equivalent(side: Sides, delta: FloatArray, contracts: IntArray, multiplier: ArrayLike = 100.0) -> FloatArray:
    """Shares that tickets come to: side x delta x contracts x shares a contract; NaN for a side that nobody knows."""
    shares: FloatArray = np.where(side == 0, np.nan, side * delta * contracts * np.asarray(multiplier, np.float64))
    return shares


def out_of_the_money(strike: FloatArray, spot: FloatArray, is_call: BoolArray) -> FloatArray:
    """Strike over spot - 1 as a decimal, signed so that out of the money is positive."""
    distance: FloatArray = (strike / spot - 1.0) * np.where(is_call, 1.0, -1.0)
    return distance


def since(now: FloatArray, then: FloatArray, one_day_move: FloatArray, lean: Sides) -> FloatArray:
    """How far price has gone since, in one-day expected moves and in the direction of the lean: 1 is one day's move gone already.

    Prices and moves in one unit; NaN without a lean, a price or a move above zero.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        gone = (now - then) / one_day_move * lean
    return np.where((lean != 0) & (one_day_move > 0), gone, np.nan)
