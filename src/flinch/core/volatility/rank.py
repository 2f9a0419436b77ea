"""IV rank and IV percentile: two different questions about one history."""

from __future__ import annotations

import numpy as np

from flinch.core.arrays import FloatArray, IntArray

LOOKBACK = 252
MIN_OBSERVATIONS = 60


def _last_year(history: FloatArray) -> FloatArray:
    return np.asarray(history, dtype=np.float64)[..., -LOOKBACK:]


def observed_sessions(history: FloatArray) -> IntArray:
    """How many of the last 252 sessions of `history`, shape (..., sessions), hold a value; shape (...)."""
    count: IntArray = np.isfinite(_last_year(history)).sum(axis=-1)
    return count


def vol_rank(history: FloatArray) -> FloatArray:
    """Where the last value lies between the lowest and highest of the last 252 sessions, itself included.

    Parameters
    ----------
    history
        Shape (..., sessions), NaN where missing.

    Returns
    -------
    0 to 100, shape (...): 100 (last - min) / (max - min). NaN where the last value is missing, fewer than 60 sessions were
    observed (see `observed_sessions`), or all are equal.
    """
    year = _last_year(history)
    last = year[..., -1]
    seen = np.isfinite(year)
    low = np.where(seen, year, np.inf).min(axis=-1)
    high = np.where(seen, year, -np.inf).max(axis=-1)
    valid = np.isfinite(last) & (seen.sum(axis=-1) >= MIN_OBSERVATIONS) & (high > low)
    return np.where(valid, 100.0 * (last - low) / np.where(valid, high - low, 1.0), np.nan)


def vol_percentile(history: FloatArray) -> FloatArray:
    """Share of the previous 251 observed sessions that were strictly below the last value.

    Parameters
    ----------
    history
        Shape (..., sessions), NaN where missing.

    Returns
    -------
    0 to 100, shape (...). NaN where the last value is missing or fewer than 60 sessions were observed.
    """
    year = _last_year(history)
    last = year[..., -1]
    before = year[..., :-1]
    seen = np.isfinite(before)
    count = seen.sum(axis=-1)
    with np.errstate(invalid="ignore"):
        below = (seen & (before < last[..., None])).sum(axis=-1)
    valid = np.isfinite(last) & (count + 1 >= MIN_OBSERVATIONS)
    return np.where(valid, 100.0 * below / np.where(valid, count, 1), np.nan)
