"""Windows that end at each session.

Every value is computed from its own window alone, so it does not depend on where the history given begins: the newest
session evaluated by itself and a whole history evaluated at once agree to the last bit.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit

_MEAN, _SUM, _SAMPLE, _POPULATION, _DEVIATION, _WEIGHTED = range(6)

_LANES = 32
"""Rows summed side by side: each window's values are added in their order, and the processor adds several rows at once."""


@njit(cache=True, nogil=True)
def _side_by_side(values: Any, first: int, lanes: int, block: Any) -> None:
    """Rows `first` to `first + lanes` as columns. What is missing is NaN, which no sum forgets."""
    for j in range(lanes):
        for t in range(values.shape[1]):
            value = values[first + j, t]
            block[t, j] = value if np.isfinite(value) else np.nan


@njit(cache=True, nogil=True)
def _sums(values: Any, window: int, kind: int, out: Any) -> None:
    rows, sessions = values.shape
    block = np.empty((sessions, _LANES))
    total, spread = np.empty(_LANES), np.empty(_LANES)
    out[:, : window - 1] = np.nan
    for first in range(0, rows, _LANES):
        lanes = min(_LANES, rows - first)
        _side_by_side(values, first, lanes, block)
        for t in range(window - 1, sessions):
            begin = t - window + 1
            total[:] = 0.0
            if kind == _WEIGHTED:
                for k in range(window):
                    row = block[begin + k]
                    for j in range(lanes):
                        total[j] += (k + 1) * row[j]
                for j in range(lanes):
                    out[first + j, t] = total[j] / (window * (window + 1) / 2)
                continue
            for k in range(begin, t + 1):
                row = block[k]
                for j in range(lanes):
                    total[j] += row[j]
            if kind == _SUM:
                for j in range(lanes):
                    out[first + j, t] = total[j]
                continue
            for j in range(lanes):
                total[j] /= window
            if kind == _MEAN:
                for j in range(lanes):
                    out[first + j, t] = total[j]
                continue
            spread[:] = 0.0
            for k in range(begin, t + 1):
                row = block[k]
                if kind == _DEVIATION:
                    for j in range(lanes):
                        spread[j] += abs(row[j] - total[j])
                else:
                    for j in range(lanes):
                        away = row[j] - total[j]
                        spread[j] += away * away
            for j in range(lanes):
                if kind == _DEVIATION:
                    out[first + j, t] = spread[j] / window
                else:
                    out[first + j, t] = np.sqrt(spread[j] / (window - 1 if kind == _SAMPLE else window))


@njit(cache=True, nogil=True)
def _larger(a: float, b: float) -> float:
    """The larger of two, NaN when one of them is."""
    return a if a > b or a != a else b


@njit(cache=True, nogil=True)
def _extremes(values: Any, window: int, sign: float, out: Any) -> None:
    """Largest of the last `window` values times `sign`. A window reaches over at most two stretches of its own length: from the
    first the largest up to its end is taken, from the second the largest since its start (van Herk 1992, Pattern Recognition
    Letters 13; Gil & Werman 1993, IEEE Transactions on Pattern Analysis 15)."""
    rows, sessions = values.shape
    up_to_end = np.empty(sessions)
    for i in range(rows):
        for first in range(0, sessions, window):
            last = min(first + window, sessions) - 1
            largest = sign * values[i, last] if np.isfinite(values[i, last]) else np.nan
            up_to_end[last] = largest
            for t in range(last - 1, first - 1, -1):
                largest = _larger(largest, sign * values[i, t] if np.isfinite(values[i, t]) else np.nan)
                up_to_end[t] = largest
        for t in range(min(window - 1, sessions)):
            out[i, t] = np.nan
        for first in range(0, sessions, window):
            largest = -np.inf
            for t in range(first, min(first + window, sessions)):
                largest = _larger(largest, sign * values[i, t] if np.isfinite(values[i, t]) else np.nan)
                if t >= window - 1:
                    out[i, t] = sign * _larger(up_to_end[t - window + 1], largest)


@njit(cache=True, nogil=True)
def _median(values: Any, window: int, out: Any) -> None:
    rows, sessions = values.shape
    ordered = np.empty(window)
    for i in range(rows):
        gap = -1
        in_order = False
        for t in range(sessions):
            value = values[i, t]
            if not np.isfinite(value):
                gap = t
                in_order = False
            if t - gap < window:
                out[i, t] = np.nan
                continue
            if not in_order:
                ordered[:] = np.sort(values[i, t - window + 1 : t + 1])
                in_order = True
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
def _share_below(values: Any, others: Any, window: int, ahead: int, least: int, skip: int, out: Any) -> None:
    """Share of what is known of the `window` values of `others` that end `ahead` sessions before the value, below the value.

    `least` counts the value itself when its own session is not among them.
    """
    rows, sessions = values.shape
    known = np.empty(sessions)
    out[:, :skip] = np.nan
    for i in range(rows):
        for t in range(sessions):
            other = others[i, t]
            known[t] = other if np.isfinite(other) else np.nan
        seen = 0
        for t in range(sessions):
            newest, oldest = t - ahead, t - ahead - window
            if newest >= 0 and known[newest] == known[newest]:
                seen += 1
            if oldest >= 0 and known[oldest] == known[oldest]:
                seen -= 1
            if t < skip:
                continue
            out[i, t] = np.nan
            value = values[i, t]
            if np.isfinite(value) and seen > 0 and seen + ahead >= least:
                below = 0
                # Without a branch many are compared at once; nothing is below what is missing.
                for other in known[max(oldest + 1, 0) : newest + 1]:
                    below += other < value
                out[i, t] = 100.0 * below / seen


@njit(cache=True, nogil=True)
def _place_in_range(values: Any, window: int, least: int, skip: int, out: Any) -> None:
    """Two queues of sessions, in one each higher than what follows it, in the other each lower: the first of each is an end of
    the range."""
    rows, sessions = values.shape
    tops, bottoms = np.empty(sessions, dtype=np.int64), np.empty(sessions, dtype=np.int64)
    out[:, :skip] = np.nan
    for i in range(rows):
        seen = top = top_end = bottom = bottom_end = 0
        for t in range(sessions):
            value = values[i, t]
            known = np.isfinite(value)
            if t >= window and np.isfinite(values[i, t - window]):
                seen -= 1
            if top_end > top and tops[top] <= t - window:
                top += 1
            if bottom_end > bottom and bottoms[bottom] <= t - window:
                bottom += 1
            if known:
                seen += 1
                while top_end > top and values[i, tops[top_end - 1]] <= value:
                    top_end -= 1
                while bottom_end > bottom and values[i, bottoms[bottom_end - 1]] >= value:
                    bottom_end -= 1
                tops[top_end], bottoms[bottom_end] = t, t
                top_end += 1
                bottom_end += 1
            if t < skip:
                continue
            out[i, t] = np.nan
            if known and seen >= least:
                low, high = values[i, bottoms[bottom]], values[i, tops[top]]
                if high > low:
                    out[i, t] = 100.0 * (value - low) / (high - low)


@njit(cache=True, nogil=True)
def _regression(values: Any, window: int, slope: Any, fit: Any, residual: Any) -> None:
    rows, sessions = values.shape
    middle = 0.5 * (window - 1)
    spread = window * (window * window - 1.0) / 12.0
    block = np.empty((sessions, _LANES))
    mean, lean, squares = np.empty(_LANES), np.empty(_LANES), np.empty(_LANES)
    for array in (slope, fit, residual):
        array[:, : window - 1] = np.nan
    for first in range(0, rows, _LANES):
        lanes = min(_LANES, rows - first)
        _side_by_side(values, first, lanes, block)
        for t in range(window - 1, sessions):
            begin = t - window + 1
            mean[:], lean[:], squares[:] = 0.0, 0.0, 0.0
            for k in range(window):
                row, weight = block[begin + k], k - middle
                for j in range(lanes):
                    mean[j] += row[j]
                    lean[j] += weight * row[j]
            for j in range(lanes):
                mean[j] /= window
                lean[j] /= spread
            for k in range(window):
                row, weight = block[begin + k], k - middle
                for j in range(lanes):
                    away = row[j] - mean[j] - lean[j] * weight
                    squares[j] += away * away
            for j in range(lanes):
                slope[first + j, t] = lean[j]
                fit[first + j, t] = mean[j] + lean[j] * middle
                residual[first + j, t] = np.sqrt(squares[j] / window)


def _rows(values: FloatArray) -> FloatArray:
    flat = np.ascontiguousarray(values, dtype=np.float64)
    return flat.reshape(-1, flat.shape[-1]) if flat.ndim != 2 else flat


def _reduced(values: FloatArray, window: int, kind: int, least: int = 1) -> FloatArray:
    if window < least:
        raise ValueError(f"window must be at least {least} session{'s' if least > 1 else ''}, not {window}")
    rows = _rows(values)
    out = np.empty(rows.shape)
    _sums(rows, window, kind, out)
    return out.reshape(np.shape(values))


def _extreme(values: FloatArray, window: int, sign: float) -> FloatArray:
    if window < 1:
        raise ValueError(f"window must be at least 1 session, not {window}")
    rows = _rows(values)
    out = np.empty(rows.shape)
    _extremes(rows, window, sign, out)
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
    return _extreme(values, window, -1.0)


def rolling_max(values: FloatArray, window: int) -> FloatArray:
    """Largest of the last `window` values."""
    return _extreme(values, window, 1.0)


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
    _share_below(rows, rows, window - 1, 1, least, skip, out)
    return out.reshape(np.shape(values))


def rolling_share_below(values: FloatArray, others: FloatArray, window: int, least: int) -> FloatArray:
    """Share of the last `window` observed values of `others`, the newest included, strictly below the value, 0 to 100.

    Both of one shape (..., sessions). Missing ones of `others` are left out; NaN where the value is missing or fewer than `least`
    were observed.
    """
    rows, among = _rows(values), _rows(others)
    out = np.empty(rows.shape)
    _share_below(rows, among, window, 0, least, 0, out)
    return out.reshape(np.shape(values))


def rolling_rank(values: FloatArray, window: int, least: int, skip: int = 0) -> FloatArray:
    """Where the last value lies between the lowest and highest of the last `window`, itself included, 0 to 100.

    Missing values are left out; NaN where the last one is missing, fewer than `least` were observed, or all are equal.
    The first `skip` sessions are left NaN.
    """
    rows = _rows(values)
    out = np.empty(rows.shape)
    _place_in_range(rows, window, least, skip, out)
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


def sessions_since_as_high(values: FloatArray) -> FloatArray:
    """Sessions since each value was last reached, those without a value not counted.

    Parameters
    ----------
    values
        Shape (..., sessions), NaN where missing.

    Returns
    -------
    How many observed sessions lie between each and the newest one before it that was at least as high, that one included; where
    none was, how many are observed before it. NaN where the value is missing.
    """
    rows = np.ascontiguousarray(values, dtype=np.float64).reshape(-1, values.shape[-1])
    out = np.full(rows.shape, np.nan)
    _since_as_high(rows, out)
    return out.reshape(values.shape)


@njit(cache=True, nogil=True)
def _since_as_high(rows: Any, out: Any) -> None:
    """With a stack of the values that nothing later has reached, each with its number among the observed."""
    sessions = rows.shape[1]
    held, number = np.empty(sessions), np.empty(sessions, np.int64)
    for i in range(rows.shape[0]):
        height, seen = 0, 0
        for t in range(sessions):
            value = rows[i, t]
            if np.isnan(value):
                continue
            while height > 0 and held[height - 1] < value:
                height -= 1
            out[i, t] = seen - number[height - 1] if height > 0 else seen
            held[height], number[height] = value, seen
            height += 1
            seen += 1
