"""Sessions and listed expirations of the Port Tarrow Exchange, which keeps the XNYS calendar."""

from __future__ import annotations

import datetime as dt
from functools import cache

import exchange_calendars
import numpy as np
from numpy.typing import NDArray

from flinch.core.calendar import NEW_YORK

EXCHANGE_ZONE, (OPEN, CLOSE), _ = NEW_YORK
"""The exchange keeps these hours on every session."""
AS_OF = dt.datetime(2026, 9, 9, 15, 45, tzinfo=EXCHANGE_ZONE)
SESSIONS = 504

DateArray = NDArray[np.datetime64]


@cache
def all_sessions() -> DateArray:
    """Every session of the exchange around the market's, in order."""
    calendar = exchange_calendars.get_calendar("XNYS", start="2023-06-01", end="2029-06-01")
    return np.asarray(calendar.sessions.values, dtype="datetime64[D]")


def market_sessions(warm_up: int = 0) -> DateArray:
    """The 504 sessions that end on the as-of date, with `warm_up` more before them."""
    sessions = all_sessions()
    end = int(np.searchsorted(sessions, np.datetime64(AS_OF.date(), "D"))) + 1
    return sessions[end - SESSIONS - warm_up : end]


def sessions_after(count: int) -> DateArray:
    """The next `count` sessions after the as-of date."""
    sessions = all_sessions()
    start = int(np.searchsorted(sessions, np.datetime64(AS_OF.date(), "D"))) + 1
    return sessions[start : start + count]


def since_open(at: dt.time | dt.datetime) -> int:
    """Milliseconds from the open to a time of the exchange, or to a moment of its session."""
    time = at.astimezone(EXCHANGE_ZONE).time() if isinstance(at, dt.datetime) else at
    return (dt.datetime.combine(dt.date.min, time) - dt.datetime.combine(dt.date.min, OPEN)) // dt.timedelta(
        milliseconds=1
    )


def session_opens(sessions: DateArray) -> NDArray[np.datetime64]:
    """The instant in UTC at which each session opens, to the minute."""
    opens = [dt.datetime.combine(day, OPEN, EXCHANGE_ZONE).astimezone(dt.UTC) for day in sessions.astype(object)]
    return np.array([instant.replace(tzinfo=None) for instant in opens], dtype="datetime64[m]")


@cache
def _fridays() -> tuple[DateArray, DateArray]:
    """Weekly expirations (Fridays, or the session before a Friday holiday) and the calendar Fridays they stand for."""
    sessions = all_sessions()
    first, last = sessions[0], sessions[-1]
    friday = np.arange(first + (4 - first.astype("datetime64[D]").astype(int) - 3) % 7, last, 7)
    expiration = sessions[np.searchsorted(sessions, friday, side="right") - 1]
    return expiration, friday


def listed_expirations(day: np.datetime64, size: str, weeklies: bool) -> DateArray:
    """Expirations listed at the close of `day`, later than it, for a name of that size.

    Large names have seven weeklies, four monthlies, four quarters and two Januaries; middle ones four weeklies (when they
    have any), three monthlies, three quarters and a January; small ones two monthlies and three quarters.
    """
    expiration, friday = _fridays()
    ahead = expiration > day
    expiration, friday = expiration[ahead], friday[ahead]
    dom = (friday - friday.astype("datetime64[M]").astype("datetime64[D]")).astype(int) + 1
    month = friday.astype("datetime64[M]").astype(int) % 12 + 1
    monthly = (dom >= 15) & (dom <= 21)
    quarter = monthly & np.isin(month, (3, 6, 9, 12))
    january = monthly & (month == 1)
    counts = {"large": (7, 4, 4, 2), "medium": (4, 3, 3, 1), "small": (0, 2, 3, 0)}[size]
    chosen = [np.flatnonzero(mask)[:count] for mask, count in zip((monthly, quarter, january), counts[1:], strict=True)]
    if weeklies:
        chosen.append(np.arange(counts[0]))
    return expiration[np.unique(np.concatenate(chosen))]
