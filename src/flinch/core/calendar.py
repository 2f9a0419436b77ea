"""When expirations end, and which are the monthly ones."""

from __future__ import annotations

import datetime as dt
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray

EXCHANGE_ZONE = ZoneInfo("America/New_York")
OPEN, CLOSE = dt.time(9, 30), dt.time(16)


def years_to_close(expirations: NDArray[np.datetime64], moment: dt.datetime) -> FloatArray:
    """Minutes from `moment`, which has a zone, to 16:00 exchange time on each expiration, over 525,600; shape (expirations,)."""
    # In UTC: between two instants of one zone Python would count by the wall clock and lose the hour of summer time.
    now = moment.astimezone(dt.UTC)
    days = expirations.astype("datetime64[D]").astype(object)
    ends = [dt.datetime.combine(day, CLOSE, EXCHANGE_ZONE).astimezone(dt.UTC) for day in days]
    return np.array([(end - now).total_seconds() / 60 / 525_600 for end in ends])


def is_monthly(expirations: NDArray[np.datetime64]) -> BoolArray:
    """Whether each date is a third Friday, or the Thursday before one (when that Friday is a holiday).

    Dates of any shape, whole days.
    """
    weekday = (expirations.astype("datetime64[D]").astype(np.int64) + 3) % 7  # Monday is 0
    friday = expirations + (4 - weekday)
    dom = (friday - friday.astype("datetime64[M]").astype("datetime64[D]")).astype(np.int64) + 1
    monthly: BoolArray = (dom >= 15) & (dom <= 21) & (weekday >= 3)
    return monthly
