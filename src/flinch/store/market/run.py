"""How a market's source runs, and where the simulated exchange is."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

from sqlalchemy import Engine, delete, or_, select

from flinch.store.engine import transaction
from flinch.store.market.chain import stored
from flinch.store.market.models import (
    ExchangeState,
    MarketRun,
)

FIRST_LOOK = dt.timedelta(minutes=5)
"""After the open, when the chains of a session are looked at first: its first moment."""


class Run(NamedTuple):
    """How many times as fast as the clock a source is to run, 0 when it stands still; the moment (UTC) until which it runs as
    fast as it can, if it does; how many seconds of the market it is behind; when it last said that it is there."""

    speed: int
    until: dt.datetime | None
    behind: float
    alive_at: dt.datetime

    @property
    def still(self) -> bool:
        """Whether it is to stand still."""
        return self.speed == 0 and self.until is None


def read_run(engine: Engine) -> Run | None:
    """None of a market whose source does not go on by itself."""
    with transaction(engine) as session:
        row = session.get(MarketRun, 1)
        if row is None:
            return None
        until = None if row.until is None else row.until.replace(tzinfo=dt.UTC)
        return Run(row.speed, until, row.behind, row.alive_at.replace(tzinfo=dt.UTC))


def set_run(engine: Engine, speed: int, until: dt.datetime | None) -> None:
    """How it is to run from now on; nothing where no source goes on."""
    with transaction(engine) as session:
        row = session.get(MarketRun, 1)
        if row is not None:
            row.speed, row.until, row.behind = speed, None if until is None else stored(until), 0.0


def say_alive(engine: Engine, now: dt.datetime, behind: float = 0.0) -> None:
    """The source is there, and so many seconds of the market behind."""
    with transaction(engine) as session:
        row = session.get(MarketRun, 1)
        if row is not None:
            row.alive_at, row.behind = stored(now), behind


def begin_exchange(engine: Engine, day: dt.date, state: bytes, now: dt.datetime) -> None:
    """The exchange goes on from a session that is unfinished; it stands still at first."""
    with transaction(engine) as session:
        session.execute(delete(ExchangeState))
        session.add(ExchangeState(session=day, unfinished=True, state=state))
        if session.get(MarketRun, 1) is None:
            session.add(MarketRun(id=1, speed=0, until=None, behind=0.0, alive_at=stored(now)))


def read_exchange(engine: Engine, day: dt.date) -> tuple[dt.date, bytes] | None:
    """Where it was before a session, or in the middle of it: the session that the state is of, and the state."""
    with transaction(engine) as session:
        before = ExchangeState.session < day
        within = (ExchangeState.session == day) & ExchangeState.unfinished
        found = session.scalar(select(ExchangeState).where(or_(before, within)).order_by(*_NEWEST_FIRST).limit(1))
        return None if found is None else (found.session, found.state)


def keep_exchange(engine: Engine, day: dt.date, state: bytes) -> None:
    """Where it is after a session; that after the one before stays, for who has not turned the day yet."""
    with transaction(engine) as session:
        session.merge(ExchangeState(session=day, unfinished=False, state=state))
        for old in session.scalars(select(ExchangeState).order_by(*_NEWEST_FIRST).offset(2)):
            session.delete(old)


_NEWEST_FIRST = (ExchangeState.session.desc(), ExchangeState.unfinished)
"""What it is after a session comes after what it was in the middle of it."""
