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


def third_friday(days: NDArray[np.datetime64]) -> BoolArray:
    """Whether each date, whole days of any shape, is the third Friday of its month."""
    number = days.astype("datetime64[D]").astype(np.int64)
    month_day = (days.astype("datetime64[D]") - days.astype("datetime64[M]").astype("datetime64[D]")).astype(
        np.int64
    ) + 1
    third: BoolArray = ((number + 3) % 7 == 4) & (month_day >= 15) & (month_day <= 21)
    return third


def is_monthly(expirations: NDArray[np.datetime64], calendar: NDArray[np.datetime64]) -> BoolArray:
    """Whether each date is a third Friday, or the day before one on which there is no session.

    `expirations` are whole days of any shape, `calendar` the exchange's sessions in order, shape (sessions,). Of Fridays that it
    does not reach there is taken to be a session.
    """
    day = expirations.astype("datetime64[D]")
    after = (day + np.timedelta64(1, "D")).astype("datetime64[D]")
    place = np.minimum(np.searchsorted(calendar, after), calendar.size - 1)
    holiday = (calendar[place] != after) & (after >= calendar[0]) & (after <= calendar[-1])
    monthly: BoolArray = third_friday(day) | (third_friday(after) & holiday)
    return monthly
