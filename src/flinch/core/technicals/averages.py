"""Smoothed averages, which remember everything since the last gap in the data."""

from __future__ import annotations

from typing import Any

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.compiled import njit
from flinch.core.rolling import lag, rolling_weighted_mean


@njit(cache=True, nogil=True)
def _smooth(values: Any, window: int, weight: float, short: bool, out: Any) -> None:
    rows, sessions = values.shape
    for i in range(rows):
        run = 0
        total = 0.0
        level = np.nan
        for t in range(sessions):
            value = values[i, t]
            if not np.isfinite(value):
                run = 0
                total = 0.0
                out[i, t] = np.nan
                continue
            run += 1
            if run <= window:
                # A short seed: the sum of one value fewer, less its share, and then the value.
                total += value - total / window if short and run == window else value
                level = total / window
                out[i, t] = level if run == window else np.nan
            else:
                level += weight * (value - level)
                out[i, t] = level


def _smoothed(values: FloatArray, window: int, weight: float, *, short: bool = False) -> FloatArray:
    if window < 1:
        raise ValueError(f"window must be at least 1 session, not {window}")
    rows = np.ascontiguousarray(values, dtype=np.float64).reshape(-1, np.shape(values)[-1])
    out = np.empty(rows.shape)
    _smooth(rows, window, weight, short, out)
    return out.reshape(np.shape(values))


def ema(values: FloatArray, window: int) -> FloatArray:
    """Exponential moving average with weight 2 / (window + 1), seeded with the mean of the first `window` values.

    Shape (..., sessions); NaN until seeded, and after a missing value until seeded again.
    """
    return _smoothed(values, window, 2.0 / (window + 1))


def wilder(values: FloatArray, window: int) -> FloatArray:
    """Wilder's average: weight 1 / window, seeded like `ema`. Wilder (1978), New Concepts in Technical Trading Systems."""
    return _smoothed(values, window, 1.0 / window)


def wilder_from_sum(values: FloatArray, window: int) -> FloatArray:
    """Wilder's running sum over `window` as TA-Lib begins it, over the window: the first is the sum of `window` - 1 values less a
    `window`th of it, plus the next value. It has its first value where `wilder` has, and comes to the same in time."""
    return _smoothed(values, window, 1.0 / window, short=True)


def wma(values: FloatArray, window: int) -> FloatArray:
    """Average weighted 1, 2, ..., window, the newest value heaviest; NaN until complete or where one is missing."""
    return rolling_weighted_mean(values, window)


def rsi(close: FloatArray, window: int) -> FloatArray:
    """Relative strength index: 100 x average gain / (average gain + average loss), averages as Wilder's.

    Shape (..., sessions); NaN until `window` changes exist, and where neither a gain nor a loss is in the average.
    Wilder (1978).
    """
    change = close - lag(close, 1)
    with np.errstate(invalid="ignore", divide="ignore"):
        gain = wilder(np.where(np.isfinite(change), np.maximum(change, 0.0), np.nan), window)
        loss = wilder(np.where(np.isfinite(change), np.maximum(-change, 0.0), np.nan), window)
        total = gain + loss
        return np.where(total > 0, 100.0 * gain / total, np.nan)
