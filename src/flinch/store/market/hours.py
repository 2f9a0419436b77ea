"""When the market's sessions open and close, in its zone."""

from __future__ import annotations

import datetime as dt
from collections import Counter

import polars as pl
from sqlalchemy import Engine, select

from flinch.store.market.models import ExchangeSession
from flinch.store.reading import read_rows

Times = tuple[dt.time, dt.time]


def read_sessions(engine: Engine) -> pl.DataFrame:
    """Every session with its times of day as text: session, opens, closes."""
    s = ExchangeSession
    return read_rows(engine, select(s.session, s.opens, s.closes).order_by(s.session))


def read_times(engine: Engine) -> tuple[Times | None, dict[dt.date, Times]]:
    """When most sessions open and close, None where there is none, and the sessions that keep other times."""
    rows = list(read_sessions(engine).iter_rows())
    if not rows:
        return None, {}
    [(usual, _)] = Counter((opens, closes) for _, opens, closes in rows).most_common(1)

    def times(opens: str, closes: str) -> Times:
        return dt.time.fromisoformat(opens), dt.time.fromisoformat(closes)

    return times(*usual), {day: times(*told) for day, *told in rows if tuple(told) != usual}
