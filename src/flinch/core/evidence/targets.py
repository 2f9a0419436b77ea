"""Whether a stated price was touched in time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray
from flinch.core.compiled import njit
from flinch.core.moves import CycleBands, band_position, cycle_ends, cycles
from flinch.core.volatility import span_vol


class Target(NamedTuple):
    """A price to touch for each name and session, names x sessions, NaN where there is none; the index of the session by whose
    end it counts, shape (sessions,); and the most sessions that may take."""

    price: FloatArray
    end: FloatArray
    span: int


def cycle_target(close: FloatArray, band: CycleBands, calendar: NDArray[np.datetime64], *, monthly: bool) -> Target:
    """The edge of the week's or month's expected move on the side that price is on, by the cycle's end; none once it was passed.

    `close` has shape (names, sessions), `band` is theirs, and `calendar` holds those sessions and the ones ahead.
    """
    position = band_position(close, band.anchor, band.half_width)
    edge = band.anchor + np.where(position >= 0, band.half_width, -band.half_width)
    end = cycles(cycle_ends(calendar, monthly=monthly)).end[: close.shape[1]].astype(np.float64)
    return Target(np.where(np.abs(position) < 1, edge, np.nan), end, int(np.nanmax(band.length)))


def move_target(
    close: FloatArray, tenors: Sequence[int], vols: Sequence[FloatArray], moves: float, sessions: int
) -> Target:
    """So many expected moves from each close (below zero a fall), within so many sessions.

    `vols` are implied volatilities of the `tenors`, calendar days ascending, each of the shape of `close`.
    """
    vol = span_vol(np.array(tenors) / 365, list(vols), sessions / 252)
    price = close * (1 + moves * vol * np.sqrt(sessions / 252))
    return Target(price, np.arange(close.shape[1], dtype=np.float64) + sessions, sessions)


def extremes_ahead(values: FloatArray, end: FloatArray, *, highest: bool) -> FloatArray:
    """Highest or lowest of the sessions after each, up to and with `end`; shape (names, sessions).

    `end` is per session, shape (sessions,), the index of the last one that counts: it may lie beyond the sessions held, and must
    not fall as sessions pass. Missing sessions are left out; NaN where none is there.
    """
    known = np.isfinite(end)
    ends = np.where(known, np.minimum(end, values.shape[1] - 1), -1).astype(np.int64)
    last = np.maximum.accumulate(ends)
    if np.any(ends[known] < last[known]):
        raise ValueError("the last session that counts may not fall as sessions pass")
    out = np.full(values.shape, np.nan)
    _extremes(np.ascontiguousarray(values, dtype=np.float64), last, 1.0 if highest else -1.0, out)
    out[:, ~known] = np.nan
    return out


@njit(cache=True, nogil=True)
def _extremes(values: Any, last: Any, sign: float, out: Any) -> None:
    """Of a queue of sessions, each smaller than the one before (larger for a `sign` of -1), the first."""
    rows, sessions = values.shape
    queue = np.empty(sessions, dtype=np.int64)
    for i in range(rows):
        head = tail = come = 0
        for t in range(sessions):
            while come <= last[t]:
                value = values[i, come]
                if np.isfinite(value):
                    while tail > head and sign * values[i, queue[tail - 1]] <= sign * value:
                        tail -= 1
                    queue[tail] = come
                    tail += 1
                come += 1
            while tail > head and queue[head] <= t:
                head += 1
            if tail > head:
                out[i, t] = values[i, queue[head]]


def touched_by(
    high: FloatArray, low: FloatArray, close: FloatArray, target: FloatArray, end: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Whether price touched a target after each session, by the end of the session `end`.

    Parameters
    ----------
    high, low, close
        Daily bars, shape (names, sessions).
    target
        Price to touch, same shape; at or above the close it is a rise, below it a fall. NaN where there is none.
    end
        Index of the last session that counts, shape (sessions,), not falling.

    Returns
    -------
    Two arrays, names x sessions. 1 where it was touched in time and 0 where not, NaN where there is no target or the window is
    not over: a window counts only when it is, whether or not it was touched already. And 1 where it is still open, else 0.
    """
    top, bottom = extremes_ahead(high, end, highest=True), extremes_ahead(low, end, highest=False)
    left = end - np.arange(close.shape[1])
    there = np.isfinite(target) & np.isfinite(close) & (left > 0)[None, :]
    over = (end < close.shape[1])[None, :]
    with np.errstate(invalid="ignore"):
        touched = np.where(target >= close, top >= target, bottom <= target)
    result = np.where(there & over & np.isfinite(top), touched.astype(np.float64), np.nan)
    return result, (there & ~over).astype(np.float64)
