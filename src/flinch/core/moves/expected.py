"""Expected moves: one standard deviation of what options price."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import FloatArray


def expected_move(spot: ArrayLike, vol: ArrayLike, years: ArrayLike) -> Any:
    """One standard deviation of the move priced to an expiration: spot * vol * sqrt(years).

    Parameters
    ----------
    spot
        Price units.
    vol
        At-the-money volatility of the expiration, annualised decimal.
    years
        Years of 365 days, at least zero.

    Returns
    -------
    Price units, broadcast shape; NaN where an argument is.
    """
    return np.asarray(spot) * np.asarray(vol) * np.sqrt(years)


def overnight_share(open: FloatArray, high: FloatArray, low: FloatArray, close: FloatArray) -> Any:
    """How much of a day's variance comes before its open: that of the gap from the close before, in that of gap and session.

    A session's own is that of its range (Parkinson 1980). French & Roll (1986) measured how little varies while exchanges are
    closed; what comes before an open differs from name to name.

    Parameters
    ----------
    open, high, low, close
        Daily bars in price units, shape (..., sessions), the newest last.

    Returns
    -------
    Shape (...,), 0 to 1; of the sessions with a bar whose session before has one. NaN where there is none, or none moved.
    """
    gap = np.log(open[..., 1:] / close[..., :-1]) ** 2
    inside = np.log(high[..., 1:] / low[..., 1:]) ** 2 / (4 * np.log(2))
    whole = np.isfinite(gap) & np.isfinite(inside)
    before, total = np.where(whole, gap, 0.0).sum(-1), np.where(whole, gap + inside, 0.0).sum(-1)
    return np.divide(before, total, out=np.full(np.shape(total), np.nan), where=total > 0)


def variance_gone(overnight: ArrayLike, elapsed: ArrayLike) -> Any:
    """How much of a day's variance has gone by when so much of its session has: what comes before the open at once, the rest
    evenly with time.

    Parameters
    ----------
    overnight
        Share of the day's variance before the open, 0 to 1.
    elapsed
        Share of the session's time that has gone by, below 0 before it and above 1 after it.

    Returns
    -------
    0 to 1, broadcast shape; NaN where an argument is. The move priced for so long is that of the day times its root.
    """
    overnight = np.asarray(overnight)
    return overnight + (1 - overnight) * np.clip(elapsed, 0.0, 1.0)
