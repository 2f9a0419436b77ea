"""Which expirations are the monthly ones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray


def is_monthly(expirations: NDArray[np.datetime64]) -> BoolArray:
    """Whether each date is a third Friday, or the Thursday before one (when that Friday is a holiday).

    Dates of any shape, whole days.
    """
    weekday = (expirations.astype("datetime64[D]").astype(np.int64) + 3) % 7  # Monday is 0
    friday = expirations + (4 - weekday)
    dom = (friday - friday.astype("datetime64[M]").astype("datetime64[D]")).astype(np.int64) + 1
    monthly: BoolArray = (dom >= 15) & (dom <= 21) & (weekday >= 3)
    return monthly
