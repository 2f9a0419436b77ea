"""Off-exchange prints that are taken to be one."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit

_SLACK = 1e-6
"""Of a tick: prices are decimals that a float does not hold exactly."""


class Bursts(NamedTuple):
    """Shape (bursts,), in the order in which they begin: times of the first and last print (nanoseconds), price weighted by
    shares, shares, notional (price times shares, added up), and how many prints."""

    first: IntArray
    last: IntArray
    price: FloatArray
    shares: IntArray
    notional: FloatArray
    prints: IntArray


def make_bursts(
    time: IntArray,
    price: FloatArray,
    shares: IntArray,
    *,
    seconds: float = 1.0,
    tick: float = 0.01,
    name: IntArray | None = None,
) -> tuple[Bursts, IntArray]:
    """Put prints together that came within a second at one price or a tick from it.

    Parameters
    ----------
    time, price, shares
        Of each print, shape (prints,), in order of time: nanoseconds, price a share, shares.
    seconds, tick
        How long after a burst's newest print, and how far from its price, another one still belongs to it.
    name
        Whose each print is, for those of many names: in ascending order, and in order of time within each name.

    Returns
    -------
    `Bursts`, and the burst of each print, shape (prints,).

    Raises
    ------
    ValueError
        When prints are not in order, or the columns differ in length.

    Notes
    -----
    In order of time a print joins the burst, among those whose newest print is at most so old and at most a tick away, that was
    joined last; else it begins one.
    """
    size = time.size
    owner = np.zeros(size, np.int64) if name is None else np.require(name, np.int64, ["C", "W"])
    if any(np.shape(column) != (size,) for column in (price, shares, owner)):
        raise ValueError("every column of the prints must have the same length")
    apart = np.diff(owner)
    if (apart < 0).any() or (np.diff(time)[apart == 0] < 0).any():
        raise ValueError("prints must be in order of time, name after name")
    columns = (
        np.require(time, np.int64, ["C", "W"]),
        np.require(price, np.float64, ["C", "W"]),
        np.require(shares, np.int64, ["C", "W"]),
    )
    of_print = np.empty(size, np.int64)
    whole = [np.empty(size, np.int64) for _ in range(4)]
    paid = np.empty(size)
    count = _join(owner, *columns, int(seconds * 1e9), tick * (1 + _SLACK), of_print, *whole, paid)  # type: ignore[call-arg]
    first, last, traded, prints = (column[:count].copy() for column in whole)
    notional = paid[:count].copy()
    with np.errstate(invalid="ignore", divide="ignore"):
        return Bursts(first, last, notional / traded, traded, notional, prints), of_print


@njit(cache=True, nogil=True)
def _join(
    owner: Any, time: Any, price: Any, shares: Any, within: int, tick: float,
    of_print: Any, first: Any, last: Any, traded: Any, prints: Any, paid: Any,
) -> int:  # fmt: skip
    """Number the bursts as they begin and add them up; how many there are. Of the bursts that something may still join a list is
    kept, the one joined last in front."""
    count, front = 0, -1
    newest, behind = np.empty(time.size), np.empty(time.size, np.int64)
    for i in range(time.size):
        if i == 0 or owner[i] != owner[i - 1]:
            front = -1
        before, burst = -1, front
        while burst >= 0:
            if time[i] - last[burst] > within:
                # Those behind it were joined even earlier.
                if before >= 0:
                    behind[before] = -1
                else:
                    front = -1
                burst = -1
                break
            if abs(price[i] - newest[burst]) <= tick:
                break
            before, burst = burst, behind[burst]
        if burst < 0:
            burst = count
            count += 1
            first[burst], traded[burst], prints[burst], paid[burst] = time[i], 0, 0, 0.0
        elif before >= 0:
            behind[before] = behind[burst]
        if front != burst:
            behind[burst] = front
            front = burst
        newest[burst], last[burst] = price[i], time[i]
        traded[burst] += shares[i]
        prints[burst] += 1
        paid[burst] += price[i] * shares[i]
        of_print[i] = burst
    return count
