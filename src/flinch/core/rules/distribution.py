"""How a metric is spread over the names that reached a rule."""

from __future__ import annotations

from typing import Any, Literal, NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit

BINS = 36
Scale = Literal["linear", "log"]


class Distribution(NamedTuple):
    """Histogram: `edges` has one more entry than `counts`; the outer bins hold what lies beyond them too."""

    edges: FloatArray
    counts: IntArray


def spread(values: FloatArray, scale: Scale) -> tuple[float, float]:
    """Where a histogram of `values` begins and ends: all but the outermost half percent on each side.

    Shape (names,), NaN left out; on a log scale only values above zero count. (0, 1) when nothing is left.
    """
    finite = values[np.isfinite(values) & ((values > 0) | (scale == "linear"))]
    if not finite.size:
        return 0.0, 1.0
    low, high = (float(v) for v in np.quantile(finite, [0.005, 0.995]))
    if high - low > 1e-9 * abs(high):
        return low, high
    pad = abs(low) * 0.05 or 0.5
    return low - pad, high + pad


def distribution(
    values: FloatArray, bounds: tuple[float, float], scale: Scale, among: BoolArray | None = None
) -> Distribution:
    """Histogram of `values` (things,), NaN left out, in 36 bins between `bounds`, evenly spaced on `scale`.

    Of those `among` alone, when that is given.
    """
    low, high = bounds
    edges = np.geomspace(low, high, BINS + 1) if scale == "log" and low > 0 else np.linspace(low, high, BINS + 1)
    counts = np.zeros(BINS, np.int64)
    chosen = np.ones(values.size, np.bool_) if among is None else among
    _count(np.ascontiguousarray(values, np.float64), np.require(chosen, requirements="W"), edges, counts)
    return Distribution(edges, counts)


@njit(cache=True, nogil=True)
def _count(values: Any, among: Any, edges: Any, counts: Any) -> None:
    bins = counts.size
    for i in range(values.size):
        value = values[i]
        if among[i] and not np.isnan(value):
            low, high = 0, bins - 1
            while low < high:
                middle = (low + high + 1) // 2
                if value >= edges[middle]:
                    low = middle
                else:
                    high = middle - 1
            counts[low] += 1
