"""What is remembered of tripwires from moment to moment, and what tripped.

A moment's trips, what is remembered after it, and that it was watched are kept together: none is lost or told twice.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Engine, delete, func, insert, select, update

from flinch.store.engine import told, transaction
from flinch.store.owned.kept import plain
from flinch.store.owned.models import Trip, Tripwire, TripwireWaiting, WatchedMarket
from flinch.store.owned.owners import Whose, theirs
from flinch.store.packing import pack, unpack

REMEMBERED = np.dtype([("name", "<i4"), ("known", "<i1"), ("no_since", "<i8"), ("tripped_on", "<i4")])
"""Of a name by its key: what was known last, the minute since when it is no, the day on which it tripped; as `core.tripwires`."""
MOST_TRIPS = 200_000
"""Trips that are kept of an owner; the oldest go first."""


class Remembered(NamedTuple):
    """What is remembered of one tripwire: of which arming and version of it; why it cannot be watched, if so."""

    armed_at: dt.datetime
    version: int
    names: NDArray[np.void]
    error: str | None


def read_armed(engine: Engine, market: str) -> list[Tripwire]:
    """Everybody's armed tripwires on a market, by owner."""
    t = Tripwire
    with transaction(engine) as session:
        rows = select(t).where(t.market == market, t.deleted_at.is_(None), t.armed_at.is_not(None))
        found = list(session.scalars(rows.order_by(t.owner_id, t.id)))
        session.expunge_all()
        return found


def armed_markets(engine: Engine) -> list[str]:
    """Markets on which something is armed."""
    t = Tripwire
    with told(), engine.connect() as connection:
        rows = select(t.market).where(t.deleted_at.is_(None), t.armed_at.is_not(None)).distinct()
        return sorted(connection.scalars(rows))


def read_remembered(engine: Engine, ids: Sequence[int]) -> dict[int, Remembered]:
    """What is remembered of tripwires, by id."""
    w = TripwireWaiting
    with told(), engine.connect() as connection:
        rows = connection.execute(
            select(w.tripwire_id, w.armed_at, w.version, w.waiting, w.error).where(w.tripwire_id.in_(list(ids)))
        ).all()
    return {
        id: Remembered(armed_at, version, unpack(REMEMBERED, packed), error)
        for id, armed_at, version, packed, error in rows
    }


def read_watched(engine: Engine, market: str) -> dt.datetime | None:
    """Up to which moment (UTC) a market has been watched; None where it never was."""
    with told(), engine.connect() as connection:
        found = connection.scalar(select(WatchedMarket.moment).where(WatchedMarket.market == market))
    return None if found is None else found.replace(tzinfo=dt.UTC)


def keep_moment(
    engine: Engine,
    market: str,
    before: dt.datetime | None,
    moment: dt.datetime,
    trips: Sequence[dict[str, Any]],
    remembered: dict[int, Remembered],
) -> list[int] | None:
    """Keep a moment that was watched: its trips (columns of `Trip`), what is remembered after it of tripwires by id, and that the
    market was watched up to it. The ids of the trips; None where somebody else has watched on from `before` meanwhile, when
    nothing is kept."""
    with transaction(engine) as session:
        row = session.get(WatchedMarket, market, with_for_update=True)
        if (None if row is None else row.moment) != (None if before is None else plain(before)):
            return None
        if row is None:
            session.add(WatchedMarket(market=market, moment=plain(moment)))
        else:
            row.moment = plain(moment)
        # One that was removed meanwhile is not remembered.
        there = set(session.scalars(select(Tripwire.id).where(Tripwire.id.in_(list(remembered)))))
        for id, one in remembered.items():
            if id in there:
                packed = pack(one.names)
                session.merge(
                    TripwireWaiting(
                        tripwire_id=id, armed_at=one.armed_at, version=one.version, waiting=packed, error=one.error
                    )
                )
        session.flush()
        # A market that was set back comes to the same moment again.
        once = insert(Trip).prefix_with("IGNORE").returning(Trip.id)
        added = [session.scalar(once.values(**trip)) for trip in trips]
        for owner_id in {trip["owner_id"] for trip in trips}:
            last = session.scalar(
                select(Trip.id).where(Trip.owner_id == owner_id).order_by(Trip.id.desc()).offset(MOST_TRIPS).limit(1)
            )
            if last is not None:
                session.execute(delete(Trip).where(Trip.owner_id == owner_id, Trip.id <= last))
        return [id for id in added if id is not None]


class Told(NamedTuple):
    """What a tripwire has told so far: how often, how many of them nobody has looked at, when last."""

    trips: int
    unseen: int
    last: dt.datetime | None


def count_trips(engine: Engine, whose: Whose) -> dict[int, Told]:
    """What each of an owner's tripwires has told, by id."""
    t = Trip
    with told(), engine.connect() as connection:
        rows = connection.execute(
            select(t.tripwire_id, func.count(), func.count() - func.count(t.seen_at), func.max(t.moment))
            .where(*theirs(t, whose))
            .group_by(t.tripwire_id)
        ).all()
    return {id: Told(many, unseen, last) for id, many, unseen, last in rows}


def read_trips(
    engine: Engine,
    whose: Whose,
    *,
    tripwire_id: int | None = None,
    after: int = 0,
    unseen: bool = False,
    count: int = 100,
) -> list[Trip]:
    """An owner's newest trips, the newest first: of one tripwire, after one by its id, or those that nobody has looked at."""
    t = Trip
    wanted = [*theirs(t, whose), t.id > after]
    if tripwire_id is not None:
        wanted.append(t.tripwire_id == tripwire_id)
    if unseen:
        wanted.append(t.seen_at.is_(None))
    with transaction(engine) as session:
        rows = list(session.scalars(select(t).where(*wanted).order_by(t.id.desc()).limit(count)))
        session.expunge_all()
        return rows


def see_trips(engine: Engine, whose: Whose, ids: Sequence[int], now: dt.datetime) -> int:
    """Somebody has looked at these; how many were not looked at before."""
    t = Trip
    with transaction(engine) as session:
        done = session.execute(
            update(t).where(*theirs(t, whose), t.id.in_(list(ids)), t.seen_at.is_(None)).values(seen_at=plain(now))
        )
        return int(done.rowcount)  # type: ignore[attr-defined]
