"""What is loaded, and at which version."""

from __future__ import annotations

import datetime as dt
import uuid
from typing import NamedTuple

from sqlalchemy import Engine, select

from flinch.store.engine import transaction
from flinch.store.market.chain import stored
from flinch.store.market.models import MarketState


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


def read_state(engine: Engine) -> Loaded | None:
    """The loaded market, or None before the first load."""
    with transaction(engine) as session:
        row = session.scalar(select(MarketState))
        if row is None:
            return None
        as_of = row.as_of.replace(tzinfo=dt.UTC)
        return Loaded(
            row.source,
            row.source_version,
            as_of,
            row.rate,
            row.data_version,
            row.load_id,
            row.past_version,
            row.complete,
            row.writing,
            row.coming,
            row.coming_percent,
        )


def begin_load(engine: Engine, *, source: str, source_version: int, as_of: dt.datetime, rate: float) -> None:
    """Say that a load has begun: until `finish_load` the market counts as half made."""
    with transaction(engine) as session:
        row = session.get(MarketState, 1) or MarketState(id=1, data_version=0, past_version=0)
        row.source, row.source_version, row.rate = source, source_version, rate
        row.load_id = uuid.uuid4().hex
        row.complete, row.writing = False, False
        row.coming, row.coming_percent = None, 0
        row.as_of = stored(as_of)
        session.add(row)


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
        row.coming, row.coming_percent = None, 0
        row.data_version += 1
        if past_changed:
            row.past_version = row.data_version
        return row.data_version


def say_coming(engine: Engine, coming: str | None, percent: int) -> None:
    """Say what is still being made, if anything is, and how far it is, 0 to 100; pages show it."""
    with transaction(engine) as session:
        row = session.get_one(MarketState, 1)
        row.coming, row.coming_percent = coming, percent


def finish_load(engine: Engine, *, coming: str | None = None) -> int:
    """Mark the market complete, but for what is still `coming`, and raise the data version; returns it."""
    with transaction(engine) as session:
        row = session.get_one(MarketState, 1)
        row.complete, row.coming = True, coming
        row.data_version += 1
        row.past_version = row.data_version
        return row.data_version
