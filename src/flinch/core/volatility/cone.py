"""The cone: how volatile the stock was over each horizon, from its calmest to its wildest stretch."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.volatility.estimators import Estimator, historical_vol

HORIZONS = (10, 21, 42, 63, 126, 252)
SHARES = (0, 10, 25, 50, 75, 90, 100)


class Cone(NamedTuple):
    """Per horizon: quantiles of the past (horizons, shares), today's value, and the windows counted."""

    quantiles: FloatArray
    last: FloatArray
    windows: IntArray


def volatility_cone(
    open: FloatArray, high: FloatArray, low: FloatArray, close: FloatArray, *, estimator: Estimator = "yang_zhang"
) -> Cone:
    """Quantiles of historical volatility by horizon, of one name.

    Parameters
    ----------
    open, high, low, close
        Daily bars, shape (sessions,); NaN where one is missing.
    estimator
        One of `ESTIMATORS`.

    Returns
    -------
    `Cone` for `HORIZONS` sessions and the shares `SHARES` in percent, annualised decimals; NaN where no window is complete.

    Notes
    -----
    Burghardt & Lane (1990), "How to tell if options are cheap", Journal of Portfolio Management 16(2). The windows overlap, so
    long horizons rest on few independent stretches.
    """
    quantiles = np.full((len(HORIZONS), len(SHARES)), np.nan)
    last = np.full(len(HORIZONS), np.nan)
    windows = np.zeros(len(HORIZONS), dtype=np.int64)
    for place, horizon in enumerate(HORIZONS):
        history = historical_vol(open, high, low, close, horizon, estimator=estimator)
        known = history[np.isfinite(history)]
        windows[place] = known.size
        last[place] = history[-1]
        if known.size:
            quantiles[place] = np.percentile(known, SHARES)
    return Cone(quantiles, last, windows)
