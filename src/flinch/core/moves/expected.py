"""Expected moves: one standard deviation of what options price."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike


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
