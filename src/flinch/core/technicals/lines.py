"""Prices that somebody marked, as they stand against price session after session."""

from __future__ import annotations

import numpy as np

from flinch.core.arrays import FloatArray, IntArray


def nearest_lines(
    close: FloatArray, name: IntArray, price: FloatArray, since: IntArray
) -> tuple[FloatArray, FloatArray]:
    """Prices of the nearest line at or above, and below, each close.

    Parameters
    ----------
    close
        Shape (names, sessions).
    name, price, since
        Of each line, shape (lines,): row of its name, price, and the first session that knows it.

    Returns
    -------
    Two arrays of the shape of `close`; NaN where there is no line on that side, or no close.
    """
    above, below = np.full(close.shape, np.nan), np.full(close.shape, np.nan)
    for row, level, first in zip(name.tolist(), price.tolist(), since.tolist(), strict=True):
        closes = close[row, first:]
        over, under = above[row, first:], below[row, first:]
        over[closes <= level] = np.fmin(over, level)[closes <= level]
        under[closes > level] = np.fmax(under, level)[closes > level]
    return above, below
