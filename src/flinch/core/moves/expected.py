"""Expected moves: one standard deviation of what options price."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

SESSIONS_PER_YEAR = 252


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


def one_day_move(spot: ArrayLike, vol: ArrayLike) -> Any:
    """Move priced for one session: spot * vol / sqrt(252), `vol` of the nearest expiry at least one session away."""
    return np.asarray(spot) * np.asarray(vol) / np.sqrt(SESSIONS_PER_YEAR)


def spent(last: ArrayLike, previous_close: ArrayLike, one_day: ArrayLike) -> Any:
    """Share of the one-day expected move already travelled: |last - previous close| / one-day move.

    All in price units, any one shape; NaN where an argument is missing or the one-day move is not above zero.
    """
    move = np.asarray(one_day, dtype=np.float64)
    travelled = np.abs(np.asarray(last, dtype=np.float64) - np.asarray(previous_close, dtype=np.float64))
    return travelled / np.where(move > 0, move, np.nan)
