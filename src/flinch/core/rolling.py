"""Windows that end at each session.

Every value is computed from its own window alone, so it does not depend on where the history given begins: the newest
session evaluated by itself and a whole history evaluated at once agree to the last bit.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit

_MEAN, _SUM, _SAMPLE, _POPULATION, _MIN, _MAX, _DEVIATION, _WEIGHTED = range(8)


@njit(cache=True, nogil=True)
def _reduce(values: Any, window: int, kind: int, out: Any) -> None:
    rows, sessions = values.shape
    for i in range(rows):
        gap = -1
        for t in range(sessions):
            if not np.isfinite(values[i, t]):
                gap = t
            if t - gap < window:
                out[i, t] = np.nan
                continue
            first = t - window + 1
            if kind == 4 or kind == 5:
                best = values[i, first]
                for k in range(first + 1, t + 1):
                    value = values[i, k]
                    if (kind == 4 and value < best) or (kind == 5 and value > best):
                        best = value
                out[i, t] = best
                continue
            total = 0.0
            if kind == 7:
                for k in range(first, t + 1):
                    total += (k - first + 1) * values[i, k]
                out[i, t] = total / (window * (window + 1) / 2)
                continue
            for k in range(first, t + 1):
                total += values[i, k]
            if kind == 1:
                out[i, t] = total
                continue
            mean = total / window
            if kind == 0:
                out[i, t] = mean
                continue
            spread = 0.0
            for k in range(first, t + 1):
                away = values[i, k] - mean
                spread += abs(away) if kind == 6 else away * away
            if kind == 6:
                out[i, t] = spread / window
            else:
                out[i, t] = np.sqrt(spread / (window - 1 if kind == 2 else window))


@njit(cache=True, nogil=True)
def _median(values: Any, window: int, out: Any) -> None:
    rows, sessions = values.shape
    ordered = np.empty(window)
    for i in range(rows):
        gap = -1
        held = False
        for t in range(sessions):
            value = values[i, t]
            if not np.isfinite(value):
                gap = t
                held = False
            if t - gap < window:
                out[i, t] = np.nan
                continue
            if not held:
                ordered[:] = np.sort(values[i, t - window + 1 : t + 1])
                held = True
            else:
                # The value that leaves makes room, the one that comes is moved to its place.
                place = np.searchsorted(ordered, values[i, t - window])
                while place + 1 < window and ordered[place + 1] < value:
                    ordered[place] = ordered[place + 1]
                    place += 1
                while place > 0 and ordered[place - 1] > value:
                    ordered[place] = ordered[place - 1]
                    place -= 1
                ordered[place] = value
            half = window // 2
            out[i, t] = ordered[half] if window % 2 else 0.5 * (ordered[half - 1] + ordered[half])


@njit(cache=True, nogil=True)
def _share_below(values: Any, others: Any, window: int, least: int, out: Any) -> None:
    rows, sessions = values.shape
    for i in range(rows):
        for t in range(sessions):
            out[i, t] = np.nan
            if not np.isfinite(values[i, t]):
                continue
            seen = below = 0
            for k in range(max(0, t - window + 1), t + 1):
                if np.isfinite(others[i, k]):
                    seen += 1
                    if others[i, k] < values[i, t]:
                        below += 1
            if seen >= least:
                out[i, t] = 100.0 * below / seen


@njit(cache=True, nogil=True)
def _standing(values: Any, window: int, least: int, percentile: bool, skip: int, out: Any) -> None:
    rows, sessions = values.shape
    for i in range(rows):
        out[i, :skip] = np.nan
        for t in range(skip, sessions):
            last = values[i, t]
            out[i, t] = np.nan
            if not np.isfinite(last):
                continue
            seen, below, low, high = 1, 0, last, last
            for k in range(max(0, t - window + 1), t):
                value = values[i, k]
                if np.isfinite(value):
                    seen += 1
                    if value < last:
                        below += 1
                    low = min(low, value)
                    high = max(high, value)
            if seen < least:
                continue
            if percentile:
                if seen > 1:
                    out[i, t] = 100.0 * below / (seen - 1)
            elif high > low:
                out[i, t] = 100.0 * (last - low) / (high - low)


@njit(cache=True, nogil=True)
def _regression(values: Any, window: int, slope: Any, fit: Any, residual: Any) -> None:
    rows, sessions = values.shape
    middle = 0.5 * (window - 1)
    spread = window * (window * window - 1.0) / 12.0
    for i in range(rows):
        gap = -1
        for t in range(sessions):
            if not np.isfinite(values[i, t]):
                gap = t
            if t - gap < window:
                slope[i, t] = fit[i, t] = residual[i, t] = np.nan
                continue
            first = t - window + 1
            total = 0.0
            lean = 0.0
            for k in range(window):
                total += values[i, first + k]
                lean += (k - middle) * values[i, first + k]
            mean = total / window
            b = lean / spread
            squares = 0.0
            for k in range(window):
                away = values[i, first + k] - mean - b * (k - middle)
                squares += away * away
            slope[i, t] = b
            fit[i, t] = mean + b * middle
            residual[i, t] = np.sqrt(squares / window)


def _rows(values: FloatArray) -> FloatArray:
    flat = np.ascontiguousarray(values, dtype=np.float64)
    return flat.reshape(-1, flat.shape[-1]) if flat.ndim != 2 else flat


def _reduced(values: FloatArray, window: int, kind: int, least: int = 1) -> FloatArray:
    if window < least:
        raise ValueError(f"window must be at least {least} session{'s' if least > 1 else ''}, not {window}")
    rows = _rows(values)
    out = np.empty(rows.shape)
    _reduce(rows, window, kind, out)
    return out.reshape(np.shape(values))


def rolling_mean(values: FloatArray, window: int) -> FloatArray:
    """Mean of the last `window` values along the last axis.

    Shape (..., sessions) in and out; NaN until `window` values exist or where one of them is missing, as in every function
    of this module that does not say otherwise. A window under its least length raises ValueError.
    """
    return _reduced(values, window, _MEAN)


def rolling_sum(values: FloatArray, window: int) -> FloatArray:
    """Sum of the last `window` values."""
    return _reduced(values, window, _SUM)


def rolling_weighted_mean(values: FloatArray, window: int) -> FloatArray:
    """Mean of the last `window` values weighted 1, 2, ..., `window`, the newest heaviest."""
    return _reduced(values, window, _WEIGHTED)


def rolling_std(values: FloatArray, window: int, *, sample: bool = True) -> FloatArray:
    """Standard deviation of the last `window` values: over n - 1, or over n when not `sample`."""
    return _reduced(values, window, _SAMPLE if sample else _POPULATION, 2 if sample else 1)


def rolling_min(values: FloatArray, window: int) -> FloatArray:
    """Smallest of the last `window` values."""
    return _reduced(values, window, _MIN)


def rolling_max(values: FloatArray, window: int) -> FloatArray:
    """Largest of the last `window` values."""
    return _reduced(values, window, _MAX)


def rolling_mean_deviation(values: FloatArray, window: int) -> FloatArray:
    """Mean absolute distance of the last `window` values from their mean."""
    return _reduced(values, window, _DEVIATION)


def rolling_median(values: FloatArray, window: int) -> FloatArray:
    """Median of the last `window` values."""
    if window < 1:
        raise ValueError(f"window must be at least 1 session, not {window}")
    rows = _rows(values)
    out = np.empty(rows.shape)
    _median(rows, window, out)
    return out.reshape(np.shape(values))


def rolling_percentile(values: FloatArray, window: int, least: int, skip: int = 0) -> FloatArray:
    """Share of the previous `window` - 1 observed values strictly below the last one, 0 to 100.

    Missing values are left out; NaN where the last one is missing or fewer than `least` were observed, itself included.
    The first `skip` sessions are left NaN, for callers who look at later ones only.
    """
    rows = _rows(values)
    out = np.empty(rows.shape)
    _standing(rows, window, least, True, skip, out)
    return out.reshape(np.shape(values))


def rolling_share_below(values: FloatArray, others: FloatArray, window: int, least: int) -> FloatArray:
    """Share of the last `window` observed values of `others`, the newest included, strictly below the value, 0 to 100.

    Both of one shape (..., sessions). Missing ones of `others` are left out; NaN where the value is missing or fewer than `least`
    were observed.
    """
    rows, among = _rows(values), _rows(others)
    out = np.empty(rows.shape)
    _share_below(rows, among, window, least, out)
    return out.reshape(np.shape(values))


def rolling_rank(values: FloatArray, window: int, least: int, skip: int = 0) -> FloatArray:
    """Where the last value lies between the lowest and highest of the last `window`, itself included, 0 to 100.

    Missing values are left out; NaN where the last one is missing, fewer than `least` were observed, or all are equal.
    The first `skip` sessions are left NaN.
    """
    rows = _rows(values)
    out = np.empty(rows.shape)
    _standing(rows, window, least, False, skip, out)
    return out.reshape(np.shape(values))


def rolling_regression(values: FloatArray, window: int) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Least-squares line through the last `window` values (at least 2) over sessions 0, 1, 2, ...

    Returns
    -------
    Slope per session, the line's value at the last session, and the root of the mean squared residual; shape of `values`.
    """
    if window < 2:
        raise ValueError(f"window must be at least 2 sessions, not {window}")
    rows = _rows(values)
    slope, fit, residual = (np.empty(rows.shape) for _ in range(3))
    _regression(rows, window, slope, fit, residual)
    shape = np.shape(values)
    return slope.reshape(shape), fit.reshape(shape), residual.reshape(shape)


def lag(values: FloatArray, sessions: int) -> FloatArray:
    """The value `sessions` (at least 0) earlier; NaN before that many exist."""
    if sessions == 0:
        return values
    out = np.full(values.shape, np.nan)
    out[..., sessions:] = values[..., :-sessions]
    return out


def sessions_since(happened: IntArray) -> FloatArray:
    """Sessions since the last one where `happened` is 1; 0 on that session itself.

    `happened` has shape (..., sessions) and holds 1 (yes), 0 (no) or -1 (not known). NaN before the first yes, and where an
    unknown session lies between: it might have been one.
    """
    sessions = np.arange(happened.shape[-1])
    yes = np.maximum.accumulate(np.where(happened == 1, sessions, -1), axis=-1)
    unknown = np.maximum.accumulate(np.where(happened == -1, sessions, -1), axis=-1)
    return np.where((yes >= 0) & (unknown < yes), sessions - yes, np.nan)
