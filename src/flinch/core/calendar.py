"""When sessions begin and end, and expirations with them, and which of those are the monthly ones."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import NamedTuple
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray


class Hours(NamedTuple):
    """An exchange's hours: its zone, the times of day at which a session usually opens and closes there, and those of the
    sessions that keep `other` ones, half days for instance."""

    zone: ZoneInfo
    usual: tuple[dt.time, dt.time]
    other: Mapping[dt.date, tuple[dt.time, dt.time]] = {}

    def opens(self, day: dt.date) -> dt.datetime:
        """When a day's session opens, in the exchange's zone."""
        return dt.datetime.combine(day, self.other.get(day, self.usual)[0], self.zone)

    def closes(self, day: dt.date) -> dt.datetime:
        """When a day's session closes, in the exchange's zone."""
        return dt.datetime.combine(day, self.other.get(day, self.usual)[1], self.zone)

    def minutes(self, day: dt.date | None = None) -> int:
        """How many minutes a day's session has; without a day, as many as one usually has."""
        first, last = self.usual if day is None else self.other.get(day, self.usual)
        return (last.hour - first.hour) * 60 + last.minute - first.minute

    def most(self) -> int:
        """The minutes of the longest session."""
        return max([self.minutes(), *[self.minutes(day) for day in self.other]])

    def day_of(self, moment: dt.datetime) -> dt.date:
        """The day on which an instant is, at the exchange."""
        return moment.astimezone(self.zone).date()


NEW_YORK = Hours(ZoneInfo("America/New_York"), (dt.time(9, 30), dt.time(16)))
"""Without half days."""


def years_to_close(expirations: NDArray[np.datetime64], moment: dt.datetime, hours: Hours = NEW_YORK) -> FloatArray:
    """Minutes from `moment`, which has a zone, to the close on each expiration, over 525,600; shape (expirations,)."""
    # In UTC: between two instants of one zone Python would count by the wall clock and lose the hour of summer time.
    now = moment.astimezone(dt.UTC)
    days = expirations.astype("datetime64[D]").astype(object)
    ends = [hours.closes(day).astimezone(dt.UTC) for day in days]
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
