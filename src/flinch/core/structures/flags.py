"""When a fact about a structure is worth a flag."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import BoolArray

LAST_DAYS = 7
NEAR_THE_PRICE = 0.5
"""Expected days."""
WIDE_PCT = 25
THIN_INTEREST = 50


def pinned(days: ArrayLike, away: ArrayLike, expected_day: ArrayLike) -> BoolArray:
    """Whether a short strike lies at the price in its last week: at most `LAST_DAYS` calendar days left, and at most
    `NEAR_THE_PRICE` expected days `away` (both in $). False where the expected day is missing."""
    with np.errstate(invalid="ignore"):
        near: BoolArray = np.abs(away) <= NEAR_THE_PRICE * np.asarray(expected_day, np.float64)
    return near & (np.asarray(days) <= LAST_DAYS)


def wide(width: ArrayLike, worth: ArrayLike) -> BoolArray:
    """Whether the quoted width is more than `WIDE_PCT` percent of what a structure is worth at mid (both in $)."""
    found: BoolArray = np.asarray(width) * 100 > WIDE_PCT * np.abs(worth)
    return found


def thin(open_interest: ArrayLike) -> BoolArray:
    """Whether fewer than `THIN_INTEREST` contracts of a leg are open."""
    found: BoolArray = np.asarray(open_interest) < THIN_INTEREST
    return found
