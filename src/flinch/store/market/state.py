"""What is loaded, and at which version."""

from __future__ import annotations

import datetime as dt
import uuid
from typing import NamedTuple

from sqlalchemy import Engine, Select, select, update
from sqlalchemy.orm import Session

from flinch.store.engine import transaction
from flinch.store.jobs import UNDER_WAY, add_job
from flinch.store.market.chain import stored
from flinch.store.market.models import MarketJob, MarketState


class Loaded(NamedTuple):
    """The market in the store; instants are UTC. `load_id` tells one load from another; `past_version` is the data version in
    which anything but the newest session changed last. `coming` is what is still being made, and how far that is."""

    source: str
    source_version: int
    as_of: dt.datetime
    rate: float
    data_version: int
    load_id: str
    past_version: int
    complete: bool
    writing: bool = False
    coming: str | None = None
    coming_percent: int = 0

    @property
    def whole(self) -> bool:
        """Whether everything that is there belongs to the data version."""
        return self.complete and not self.writing


_FILL = "fill"


def read_state(engine: Engine) -> Loaded | None:
    """The loaded market, or None before the first load."""
    with transaction(engine) as session:
        row = session.scalar(select(MarketState))
        if row is None:
            return None
        fill = session.scalar(_fills().order_by(MarketJob.id.desc()).limit(1))
        return Loaded(
            row.source,
            row.source_version,
            row.as_of.replace(tzinfo=dt.UTC),
            row.rate,
            row.data_version,
            row.load_id,
            row.past_version,
            row.complete,
            row.writing,
            fill.stage if fill else None,
            fill.percent if fill else 0,
        )


def begin_load(engine: Engine, *, source: str, source_version: int, as_of: dt.datetime, rate: float) -> None:
    """Say that a load has begun: until `finish_load` the market counts as half made. What was under way is so no longer."""
    with transaction(engine) as session:
        row = session.get(MarketState, 1) or MarketState(id=1, data_version=0, past_version=0)
        row.source, row.source_version, row.rate = source, source_version, rate
        row.load_id = uuid.uuid4().hex
        row.complete, row.writing = False, False
        row.as_of = stored(as_of)
        session.add(row)
        session.execute(update(MarketJob).where(MarketJob.state.in_(UNDER_WAY)).values(state="interrupted"))


def begin_moment(engine: Engine) -> None:
    """Say that rows of a later moment are coming: until `advance` nothing that is there is read as a version."""
    with transaction(engine) as session:
        session.get_one(MarketState, 1).writing = True


def advance(engine: Engine, as_of: dt.datetime, *, past_changed: bool = False) -> int:
    """Make what was published as of a later moment the market that is served; returns the data version.

    `past_changed` says that rows of sessions before the newest, or of what has no session, were written too.
    """
    with transaction(engine) as session:
        row = session.get_one(MarketState, 1)
        row.as_of, row.writing = stored(as_of), False
        row.data_version += 1
        if past_changed:
            row.past_version = row.data_version
        _say(session, None, 0)
        return row.data_version


def say_coming(engine: Engine, coming: str | None, percent: int) -> None:
    """Say what is still being made, if anything is, and how far it is, 0 to 100; pages show it."""
    with transaction(engine) as session:
        _say(session, coming, percent)


def finish_load(engine: Engine, *, coming: str | None = None) -> int:
    """Mark the market complete, but for what is still `coming`, and raise the data version; returns it."""
    with transaction(engine) as session:
        row = session.get_one(MarketState, 1)
        row.complete = True
        row.data_version += 1
        row.past_version = row.data_version
        _say(session, coming, 0)
        return row.data_version


def _fills() -> Select[MarketJob]:
    return select(MarketJob).where(MarketJob.kind == _FILL, MarketJob.state.in_(UNDER_WAY))


def _say(session: Session, coming: str | None, percent: int) -> None:
    """The filling of the market is a job like any other: one row, which is over when nothing is coming."""
    fill = session.scalar(_fills().limit(1))
    if coming is None:
        session.execute(
            update(MarketJob)
            .where(MarketJob.kind == _FILL, MarketJob.state.in_(UNDER_WAY))
            .values(state="done", percent=100)
        )
    elif fill is None:
        number = add_job(session, MarketJob, _FILL, {}, coming, "running")
        session.get_one(MarketJob, number).percent = percent
    else:
        fill.stage, fill.percent = coming, percent
