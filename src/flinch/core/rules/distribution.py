"""How a metric is spread over the names that reached a rule."""

from __future__ import annotations

from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit

BINS = 36
_MANY = 50_000
Scale = Literal["linear", "log"]


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


class Binned(NamedTuple):
    """The bin of each value between `edges`, `BINS` where it is missing, shape (things,)."""

    edges: FloatArray
    bins: NDArray[np.uint8]

    def counts(self, among: BoolArray) -> IntArray:
        """How many of some things lie in each bin, and how many have no value, shape (BINS + 1,)."""
        if self.bins.size < _MANY:
            return np.bincount(self.bins[among], minlength=BINS + 1)
        counts = np.zeros(BINS + 1, np.int64)
        _count(self.bins, np.require(among, requirements="W"), counts)
        return counts


def binned(values: FloatArray, bounds: tuple[float, float], scale: Scale) -> Binned:
    """Bins of `values` (things,): 36 between `bounds`, evenly spaced on `scale`.

    The outer ones hold what lies beyond them too; NaN is in the one after the last.
    """
    low, high = bounds
    edges = np.geomspace(low, high, BINS + 1) if scale == "log" and low > 0 else np.linspace(low, high, BINS + 1)
    if values.size >= _MANY:
        found = np.empty(values.size, np.uint8)
        _bin(np.require(values, np.float64, ["C", "W"]), edges, found)
        return Binned(edges, found)
    bins = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, BINS - 1)
    return Binned(edges, np.where(np.isnan(values), BINS, bins).astype(np.uint8))


@njit(cache=True, nogil=True)
def _bin(values: Any, edges: Any, bins: Any) -> None:
    for i in range(values.size):
        below = 0
        # All edges are compared side by side, which is faster than a search among so few.
        for edge in range(1, edges.size - 1):
            below += values[i] >= edges[edge]
        bins[i] = below if values[i] == values[i] else edges.size - 1


@njit(cache=True, nogil=True)
def _count(bins: Any, among: Any, counts: Any) -> None:
    for i in range(bins.size):
        # Without a branch, which would be guessed wrong half the time.
        counts[bins[i]] += among[i]
