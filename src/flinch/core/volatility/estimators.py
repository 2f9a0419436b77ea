"""Historical volatility from daily bars, five estimators."""

from __future__ import annotations

from typing import Literal, get_args

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.rolling import lag, rolling_mean, rolling_std

Estimator = Literal["close_to_close", "parkinson", "garman_klass", "rogers_satchell", "yang_zhang"]
ESTIMATORS: tuple[Estimator, ...] = get_args(Estimator)


def _rolling_variance(values: FloatArray, window: int) -> FloatArray:
    """Sample variance (n - 1) of the last `window` values along the last axis."""
    return rolling_std(values, window) ** 2


def historical_vol(
    open: FloatArray,
    high: FloatArray,
    low: FloatArray,
    close: FloatArray,
    window: int,
    *,
    estimator: Estimator,
    sessions_per_year: int = 252,
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
    with np.errstate(invalid="ignore", divide="ignore"):
        if estimator == "close_to_close":
            variance = _rolling_variance(np.log(close / lag(close, 1)), window)
        elif estimator == "parkinson":
            variance = rolling_mean(np.log(high / low) ** 2 / (4 * np.log(2)), window)
        elif estimator == "garman_klass":
            daily = 0.5 * np.log(high / low) ** 2 - (2 * np.log(2) - 1) * np.log(close / open) ** 2
            variance = np.maximum(rolling_mean(daily, window), 0.0)
        elif estimator == "rogers_satchell":
            variance = np.maximum(rolling_mean(_rogers_satchell(open, high, low, close), window), 0.0)
        elif estimator == "yang_zhang":
            k = 0.34 / (1.34 + (window + 1) / (window - 1))
            variance = (
                _rolling_variance(np.log(open / lag(close, 1)), window)
                + k * _rolling_variance(np.log(close / open), window)
                + (1 - k) * np.maximum(rolling_mean(_rogers_satchell(open, high, low, close), window), 0.0)
            )
        else:
            raise ValueError(f"estimator must be one of {', '.join(ESTIMATORS)}, not {estimator!r}")
        return np.sqrt(sessions_per_year * variance)


def _rogers_satchell(open: FloatArray, high: FloatArray, low: FloatArray, close: FloatArray) -> FloatArray:
    product: FloatArray = np.log(high / close) * np.log(high / open) + np.log(low / close) * np.log(low / open)
    return product
