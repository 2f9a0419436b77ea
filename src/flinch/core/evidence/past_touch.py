"""How often a name's own past would have touched a price."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from flinch.core.arrays import FloatArray

LEAST_WINDOWS = 60


class PastTouch(NamedTuple):
    """Share of the past windows that touched, NaN with fewer than `LEAST_WINDOWS`; how many there were, overlapping; and how many
    of them can lie side by side."""

    chance: float
    windows: int
    apart: int


def past_touch(high: FloatArray, low: FloatArray, close: FloatArray, level: float, sessions: int) -> PastTouch:
    """Share of all past stretches of so many sessions in which price came as far as a level lies from the newest close.

    Parameters
    ----------
    high, low, close
        Daily bars of one name, shape (sessions,); a stretch with a missing one is left out.
    level
        The price, above zero.
    sessions
        Length of a stretch, at least 1.

    Returns
    -------
    `PastTouch`. The mean daily logarithmic return of the history is taken out of every path, so that a past rise is not taken for
    a promise; distances are logarithmic.
    """
    count = close.size - sessions
    if count < 1:
        return PastTouch(float("nan"), 0, 0)
    with np.errstate(invalid="ignore", divide="ignore"):
        top, bottom, end = np.log(high), np.log(low), np.log(close)
    drift = float(np.nanmean(np.diff(end))) if np.isfinite(np.diff(end)).any() else float("nan")
    away = np.log(level) - end[-1]
    path = top if away >= 0 else bottom
    steps = drift * np.arange(1, sessions + 1)
    moved = sliding_window_view(path[1:], sessions) - steps - end[:count, None]
    known = np.isfinite(moved).all(axis=1)
    reached = (moved >= away).any(axis=1) if away >= 0 else (moved <= away).any(axis=1)
    windows = int(known.sum())
    chance = float(reached[known].mean()) if windows >= LEAST_WINDOWS and np.isfinite(away) else float("nan")
    return PastTouch(chance, windows, windows // sessions)
