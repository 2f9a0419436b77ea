"""What is made of highs and lows: true range, bands around an average, oscillators within a range."""

from __future__ import annotations

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.rolling import (
    lag,
    rolling_max,
    rolling_mean,
    rolling_mean_deviation,
    rolling_min,
    rolling_std,
    rolling_sum,
)
from flinch.core.technicals.averages import ema, wilder, wilder_from_sum


def true_range(high: FloatArray, low: FloatArray, close: FloatArray) -> FloatArray:
    """Largest of high - low and the distances of both from the previous close; NaN without a previous close. Wilder (1978)."""
    previous = lag(close, 1)
    return np.maximum(high, previous) - np.minimum(low, previous)


def atr(high: FloatArray, low: FloatArray, close: FloatArray, window: int) -> FloatArray:
    """Average true range, Wilder's average, in price units; shape (..., sessions), NaN until `window` true ranges exist."""
    return wilder(true_range(high, low, close), window)


def bollinger(close: FloatArray, window: int, width: float) -> tuple[FloatArray, FloatArray]:
    """Upper and lower band: mean of `window` closes +/- `width` population standard deviations. Bollinger (2001)."""
    mean, deviation = rolling_mean(close, window), rolling_std(close, window, sample=False)
    return mean + width * deviation, mean - width * deviation


def keltner(
    high: FloatArray, low: FloatArray, close: FloatArray, window: int, width: float
) -> tuple[FloatArray, FloatArray]:
    """Upper and lower band: exponential average of closes +/- `width` average true ranges, both over `window`."""
    middle, reach = ema(close, window), atr(high, low, close, window)
    return middle + width * reach, middle - width * reach


def squeeze_on(high: FloatArray, low: FloatArray, close: FloatArray) -> tuple[BoolArray, BoolArray]:
    """Whether the Bollinger bands (20, 2) lie inside the Keltner bands (20, 1.5), and whether that is known."""
    upper, lower = bollinger(close, 20, 2.0)
    top, bottom = keltner(high, low, close, 20, 1.5)
    known = np.isfinite(upper) & np.isfinite(top)
    return known & (upper < top) & (lower > bottom), known


def stochastic(high: FloatArray, low: FloatArray, close: FloatArray, window: int) -> FloatArray:
    """Where the close stands between the lowest low and highest high of `window` sessions, 0 to 100. Lane (1984)."""
    bottom, top = rolling_min(low, window), rolling_max(high, window)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(top > bottom, 100.0 * (close - bottom) / (top - bottom), np.nan)


def cci(high: FloatArray, low: FloatArray, close: FloatArray, window: int) -> FloatArray:
    """Commodity channel index: distance of the typical price from its mean, over 0.015 mean deviations. Lambert (1980)."""
    typical = (high + low + close) / 3
    with np.errstate(invalid="ignore", divide="ignore"):
        spread = rolling_mean_deviation(typical, window)
        return np.where(spread > 0, (typical - rolling_mean(typical, window)) / (0.015 * spread), np.nan)


def mfi(high: FloatArray, low: FloatArray, close: FloatArray, volume: FloatArray, window: int) -> FloatArray:
    """Money flow index: 100 x flow on sessions of rising typical price / flow on rising and falling ones. 0 to 100.

    A typical price that is the same but for the last digits of the arithmetic neither rises nor falls.
    """
    typical = (high + low + close) / 3
    change = typical - lag(typical, 1)
    change = np.where(np.abs(change) > 1e-9 * typical, change, change * 0.0)
    flow = typical * volume
    known = np.isfinite(change) & np.isfinite(flow)
    with np.errstate(invalid="ignore", divide="ignore"):
        up = rolling_sum(np.where(known, np.where(change > 0, flow, 0.0), np.nan), window)
        down = rolling_sum(np.where(known, np.where(change < 0, flow, 0.0), np.nan), window)
        return np.where(up + down > 0, 100.0 * up / (up + down), np.nan)


def adx(high: FloatArray, low: FloatArray, close: FloatArray, window: int) -> FloatArray:
    """Average directional index, 0 to 100: how strong a trend is, whichever way it goes. Wilder (1978).

    Begun as TA-Lib begins it; NaN until two windows are complete.
    """
    up, down = high - lag(high, 1), lag(low, 1) - low
    known = np.isfinite(up) & np.isfinite(down)
    with np.errstate(invalid="ignore", divide="ignore"):
        rise = wilder_from_sum(np.where(known, np.where((up > down) & (up > 0), up, 0.0), np.nan), window)
        fall = wilder_from_sum(np.where(known, np.where((down > up) & (down > 0), down, 0.0), np.nan), window)
        total = rise + fall
        spread = np.where(total > 0, 100.0 * np.abs(rise - fall) / total, np.where(total == 0, 0.0, np.nan))
        return wilder(spread, window)
