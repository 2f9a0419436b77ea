"""Historical volatility from daily bars, five estimators."""

from __future__ import annotations

from typing import Literal, get_args

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.rolling import lag, rolling_mean, rolling_std

Estimator = Literal["close_to_close", "parkinson", "garman_klass", "rogers_satchell", "yang_zhang"]
ESTIMATORS: tuple[Estimator, ...] = get_args(Estimator)


def historical_vol(
    open: FloatArray,
    high: FloatArray,
    low: FloatArray,
    close: FloatArray,
    window: int,
    *,
    estimator: Estimator,
    sessions_per_year: int = 252,
    left_out: BoolArray | None = None,
) -> FloatArray:
    """Historical volatility at each session over the `window` sessions that end there.

    Parameters
    ----------
    open, high, low, close
        Daily bars, shape (..., sessions), price units above zero; NaN where a session is missing.
    window
        Sessions per estimate, at least 2. Estimators that use the previous close need one session more.
    estimator
        One of `ESTIMATORS`.
    sessions_per_year
        For annualising.
    left_out
        Sessions that do not count, same shape: those of earnings reactions, for volatility ex-earnings. The window reaches
        further back instead, and a session left out has the value of the one before it.

    Returns
    -------
    Annualised volatility as a decimal, same shape; NaN until the window is complete or where one of its sessions is missing.

    Raises
    ------
    ValueError
        For a window under 2 or an unknown estimator.

    Notes
    -----
    close_to_close: sample standard deviation of log returns (n - 1).
    parkinson: mean of ln(H/L)^2 / (4 ln 2). Parkinson (1980), Journal of Business 53(1).
    garman_klass: mean of ln(H/L)^2 / 2 - (2 ln 2 - 1) ln(C/O)^2. Garman & Klass (1980), Journal of Business 53(1).
    rogers_satchell: mean of ln(H/C) ln(H/O) + ln(L/C) ln(L/O). Rogers & Satchell (1991), Annals of Applied Probability 1(4).
    yang_zhang: overnight variance + k open-to-close variance + (1 - k) Rogers-Satchell, k = 0.34 / (1.34 + (n+1)/(n-1)).
    Yang & Zhang (2000), Journal of Business 73(3).
    """
    if window < 2:
        raise ValueError(f"window must be at least 2 sessions, not {window}")
    if estimator not in ESTIMATORS:
        raise ValueError(f"estimator must be one of {', '.join(ESTIMATORS)}, not {estimator!r}")
    with np.errstate(invalid="ignore", divide="ignore"):
        before = lag(close, 1)
        if estimator == "close_to_close":
            parts = [np.log(close / before)]
        elif estimator == "parkinson":
            parts = [np.log(high / low) ** 2 / (4 * np.log(2))]
        elif estimator == "garman_klass":
            parts = [0.5 * np.log(high / low) ** 2 - (2 * np.log(2) - 1) * np.log(close / open) ** 2]
        elif estimator == "rogers_satchell":
            parts = [_rogers_satchell(open, high, low, close)]
        else:
            # Of each price one logarithm.
            o, h, lo, c = np.log(open), np.log(high), np.log(low), np.log(close)
            parts = [o - lag(c, 1), c - o, (h - c) * (h - o) + (lo - c) * (lo - o)]
        if left_out is None or not left_out.any():
            variance = _variance(parts, window, estimator)
        else:
            order = np.argsort(~left_out, axis=-1, kind="stable")  # those left out first, the others in their order
            gone = np.take_along_axis(left_out, order, axis=-1)
            packed = [np.where(gone, np.nan, np.take_along_axis(part, order, axis=-1)) for part in parts]
            place = left_out.sum(axis=-1, keepdims=True) + np.cumsum(~left_out, axis=-1) - 1
            variance = np.take_along_axis(_variance(packed, window, estimator), np.maximum(place, 0), axis=-1)
        return np.sqrt(sessions_per_year * variance)


def _variance(parts: list[FloatArray], window: int, estimator: Estimator) -> FloatArray:
    """Variance a session over each window, from the estimator's terms of each session."""
    if estimator == "close_to_close":
        return rolling_std(parts[0], window) ** 2
    if estimator == "yang_zhang":
        k = 0.34 / (1.34 + (window + 1) / (window - 1))
        gap, day, inside = parts
        return (
            rolling_std(gap, window) ** 2
            + k * rolling_std(day, window) ** 2
            + (1 - k) * np.maximum(rolling_mean(inside, window), 0.0)
        )
    return np.maximum(rolling_mean(parts[0], window), 0.0)


def _rogers_satchell(open: FloatArray, high: FloatArray, low: FloatArray, close: FloatArray) -> FloatArray:
    product: FloatArray = np.log(high / close) * np.log(high / open) + np.log(low / close) * np.log(low / open)
    return product
