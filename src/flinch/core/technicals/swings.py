"""Turning points, known only after enough sessions have passed, and what is projected from the last leg."""

from __future__ import annotations

from typing import Any

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit


@njit(cache=True, nogil=True)
def _turns(values: Any, side: int, sign: float, price: Any, place: Any) -> None:
    rows, sessions = values.shape
    for i in range(rows):
        found = np.nan
        at = -1
        for t in range(sessions):
            s = t - side
            if s >= side:
                turn = np.isfinite(values[i, s])
                for k in range(s - side, s + side + 1):
                    if not np.isfinite(values[i, k]) or (k != s and sign * values[i, k] >= sign * values[i, s]):
                        turn = False
                        break
                if turn:
                    found = values[i, s]
                    at = s
            price[i, t] = found
            place[i, t] = at


def _swings(values: FloatArray, side: int, sign: float) -> tuple[FloatArray, FloatArray]:
    if side < 1:
        raise ValueError(f"a swing needs at least 1 session on each side, not {side}")
    shape = np.shape(values)
    rows = np.ascontiguousarray(values, dtype=np.float64).reshape(-1, shape[-1])
    price, place = np.empty(rows.shape), np.empty(rows.shape)
    _turns(rows, side, sign, price, place)
    return price.reshape(shape), place.reshape(shape)


def swing(values: FloatArray, side: int, *, high: bool) -> FloatArray:
    """Price of the last swing high (or low) that is confirmed at each session.

    A swing high is above the `side` sessions before it and the `side` after it, so it is known `side` sessions later and
    never sooner. Shape (..., sessions); NaN before the first. A session with a missing neighbour is none.
    """
    return _swings(values, side, 1.0 if high else -1.0)[0]


def turning_points(values: FloatArray, side: int, *, high: bool) -> IntArray:
    """Sessions of all swing highs (or lows) that are confirmed at the last one, as `swing` tells the last of them; `values` has
    shape (sessions,)."""
    place = _swings(values, side, 1.0 if high else -1.0)[1]
    return np.unique(place[place >= 0]).astype(np.int64)


def fib_extension(high: FloatArray, low: FloatArray, side: int, ratio: float) -> FloatArray:
    """Target `ratio` times the last confirmed leg, measured from where the leg began.

    The leg runs from the last swing low to the last swing high when the high is the newer one, else from high to low.
    Shape (..., sessions); NaN before both swings exist.
    """
    top, top_at = _swings(high, side, 1.0)
    bottom, bottom_at = _swings(low, side, -1.0)
    rising = top_at > bottom_at
    return np.where(rising, bottom + ratio * (top - bottom), top - ratio * (top - bottom))
