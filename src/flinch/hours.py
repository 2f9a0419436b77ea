"""The hours of a market's exchange."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from sqlalchemy import Engine

from flinch.core.calendar import NEW_YORK, Hours
from flinch.store.market.hours import read_times
from flinch.store.market.settings import read_settings


def read_hours(engine: Engine) -> Hours:
    """The hours that most sessions of the market's calendar keep, and the sessions that keep others; those of New York where
    there is no session yet."""
    zone, (usual, others) = ZoneInfo(read_settings(engine).zone), read_times(engine)
    return Hours(zone, usual or NEW_YORK.usual, others)
