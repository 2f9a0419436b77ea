"""Sessions of exchanges, by the ISO 10383 code of their calendar, as a library keeps them."""

from __future__ import annotations

import datetime as dt
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray
from rapidfuzz import process

from flinch.errors import FlinchError


class NoSuchCalendar(FlinchError):
    """No calendar of this code is known."""

    status, kind, where = 422, "no_such_calendar", "calendar"

    def __init__(self, code: str) -> None:
        codes = _codes()
        near = [found for found, *_ in process.extract(code.upper(), codes, limit=3)]
        super().__init__(
            f"No calendar of an exchange is called {code[:20]!r}. Give its ISO 10383 code, {', '.join(near)} for instance."
        )
        self.nearest = near


class Sessions(NamedTuple):
    """An exchange's sessions in order, and when each opens and closes (UTC), shape (sessions,) each."""

    session: NDArray[np.datetime64]
    opens: NDArray[np.datetime64]
    closes: NDArray[np.datetime64]

    def table(self, zone: str) -> pl.DataFrame:
        """Rows of `ExchangeSession`: times of day in a zone. Of a session that begins or ends on another day it has what lies on
        its own."""

        def time(column: NDArray[np.datetime64], outside: dt.time) -> pl.Series:
            local = pl.Series(column.astype("datetime64[us]")).dt.replace_time_zone("UTC").dt.convert_time_zone(zone)
            mine = local.dt.date() == pl.Series(self.session)
            return local.dt.time().set(~mine, outside).dt.to_string("%H:%M")

        return pl.DataFrame(
            {
                "session": pl.Series(self.session, dtype=pl.Date),
                "opens": time(self.opens, dt.time()),
                "closes": time(self.closes, dt.time(23, 59)),
            }
        )


def require_calendar(code: str) -> None:
    """Raises NoSuchCalendar."""
    if code not in _codes():
        raise NoSuchCalendar(code)


def calendar_zone(code: str) -> str:
    """The IANA name of an exchange's zone. Raises NoSuchCalendar."""
    require_calendar(code)
    return str(_calendar(code, 2020, 2021).tz)


def sessions_between(code: str, first: dt.date, last: dt.date) -> Sessions:
    """Sessions of an exchange from one day to another. Raises NoSuchCalendar."""
    require_calendar(code)
    table = _calendar(code, first.year, last.year + 1).schedule
    days = table.index.to_numpy().astype("datetime64[D]")
    inside = (days >= np.datetime64(first, "D")) & (days <= np.datetime64(last, "D"))

    def column(name: str) -> NDArray[np.datetime64]:
        # In UTC, whatever the table's own zone is.
        found = table[name].dt.tz_convert("UTC").dt.tz_localize(None).to_numpy()
        minutes: NDArray[np.datetime64] = found.astype("datetime64[m]")[inside]
        return minutes

    return Sessions(days[inside], column("open"), column("close"))


def _codes() -> list[str]:
    # What it brings along takes a second and sixty megabytes, which a start must not.
    import exchange_calendars

    codes: list[str] = exchange_calendars.get_calendar_names(include_aliases=False)
    return codes


@lru_cache(maxsize=8)
def _calendar(code: str, first: int, last: int) -> Any:
    import exchange_calendars

    return exchange_calendars.get_calendar(code, start=f"{first}-01-01", end=f"{last}-01-01")
