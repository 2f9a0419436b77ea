"""What users keep under a name: screens, baskets, own metrics; lines and plans. Removing can be undone."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any, Generic, NamedTuple, TypeVar

from sqlalchemy import Engine, delete, func, literal, select, union_all
from sqlalchemy.orm import Session

from flinch.errors import FlinchError
from flinch.store.engine import told
from flinch.store.owned.models import Basket, Owner, OwnLine, OwnMetric, Plan, SavedScreen, ScreenLook, Tripwire
from flinch.store.owned.owners import Whose, is_theirs, said_by, theirs
from flinch.store.owned.write_keys import change

RESTORED_FOR = dt.timedelta(days=30)
"""How long a removal can be taken back."""

T = TypeVar("T", SavedScreen, Basket, OwnMetric, OwnLine, Plan, Tripwire)


class TooMany(FlinchError):
    """More than are kept."""

    status, kind = 409, "too_many"

    def __init__(self, most: int) -> None:
        super().__init__(f"{most} are kept at most. Remove some first; nothing was changed.")


class NameTaken(FlinchError):
    """Another one has this name already; `id` is its id."""

    status, kind = 409, "name_taken"

    def __init__(self, name: str, id: int) -> None:
        super().__init__(
            f"The name {name!r} is taken. Choose another, or replace the one that has it. Nothing was changed."
        )
        self.id, self.where = id, str(id)


class ChangedElsewhere(FlinchError):
    """It has another version by now than the one that a change was made on; `version` is the one that is kept."""

    status, kind, where = 409, "changed_elsewhere", "version"

    def __init__(self, name: str, version: int) -> None:
        super().__init__(
            f"{name} was changed in another window since it was read here. Nothing was changed by this one."
        )
        self.version = version


class Stamp(NamedTuple):
    """Tells whether things that are kept are those of before: how many, and two sums over which they are and of which version."""

    number: int
    total: int | None
    mixed: int | None


class Kept(Generic[T]):
    """An owner's things of one kind, each under a name of its own; or in the order of `name` when it need not be `single`."""

    def __init__(self, model: type[T], name: str, most: int, *, single: bool = True) -> None:
        self.model: type[T] = model
        self.name = name
        self.most = most
        self.single = single

    def all(self, engine: Engine, whose: Whose) -> list[T]:
        """Everything that is kept, by name."""
        with change(engine) as session:
            rows = self._rows_of(session, whose)
            session.expunge_all()
            return rows

    def one(self, engine: Engine, whose: Whose, id: int) -> T | None:
        """One thing; None when it is not there."""
        with change(engine) as session:
            row = self._find(session, whose, id)
            session.expunge_all()
            return row

    def save(
        self,
        engine: Engine,
        whose: Whose,
        values: dict[str, Any],
        id: int | None = None,
        *,
        version: int | None = None,
        sound: Callable[[list[T]], None] | None = None,
    ) -> T | None:
        """Make a new one of `values`, or change the one with `id`; None when that is not there.

        Raises NameTaken when another one has the name, TooMany when there is no room, ChangedElsewhere when it is not of the
        `version` that the change was made on (None: whichever it is of), and whatever `sound` raises, which sees all that are
        kept while nobody else changes them. Nothing is changed then.
        """
        with change(engine) as session:
            self._lock(session, whose)
            rows = self._rows_of(session, whose)
            if sound is not None:
                sound(rows)
            if self.name in values:
                self._require_free(rows, values[self.name], id)
            if id is not None:
                row = next((other for other in rows if other.id == id), None)
                if row is None:
                    return None
                if version is not None and row.version != version:
                    raise ChangedElsewhere(getattr(row, self.name), row.version)
                row.version += 1
            else:
                if len(rows) >= self.most:
                    raise TooMany(self.most)
                row = self.model(**said_by(self.model, whose), deleted_at=None, version=1)
                session.add(row)
            for key, value in values.items():
                setattr(row, key, value)
            session.flush()
            session.refresh(row)
            session.expunge(row)
            return row

    def remove(self, engine: Engine, whose: Whose, id: int, now: dt.datetime, *, version: int | None = None) -> bool:
        """Remove one so that it can be restored for `RESTORED_FOR`; False when it is not there. What was removed longer ago goes
        for good.

        Raises ChangedElsewhere as `save` does.
        """
        with change(engine) as session:
            self._lock(session, whose)
            m = self.model
            session.execute(delete(m).where(*theirs(m, whose), m.deleted_at < plain(now - RESTORED_FOR)))
            row = self._find(session, whose, id)
            if row is not None:
                if version is not None and row.version != version:
                    raise ChangedElsewhere(getattr(row, self.name), row.version)
                row.deleted_at = plain(now)
            return row is not None

    def restore(self, engine: Engine, whose: Whose, id: int) -> bool:
        """Take a removal back; False when it was never there. Raises NameTaken and TooMany as `save` does."""
        with change(engine) as session:
            self._lock(session, whose)
            row = session.get(self.model, id)
            if row is None or not is_theirs(row, whose):
                return False
            rows = self._rows_of(session, whose)
            self._require_free(rows, getattr(row, self.name), id)
            if len(rows) >= self.most:
                raise TooMany(self.most)
            row.deleted_at = None
            return True

    def _rows_of(self, session: Session, whose: Whose) -> list[T]:
        m = self.model
        statement = select(m).where(*theirs(m, whose), m.deleted_at.is_(None)).order_by(getattr(m, self.name), m.id)
        return list(session.scalars(statement))

    def _find(self, session: Session, whose: Whose, id: int) -> T | None:
        found = session.get(self.model, id)
        return found if found is not None and is_theirs(found, whose) and found.deleted_at is None else None

    def _require_free(self, rows: list[T], name: str, id: int | None) -> None:
        for other in rows:
            if self.single and getattr(other, self.name) == name and other.id != id:
                raise NameTaken(name, other.id)

    @staticmethod
    def _lock(session: Session, whose: Whose) -> None:
        """Changes of one owner follow each other."""
        session.execute(select(Owner.id).where(Owner.id == whose.owner).with_for_update())


SCREENS = Kept(SavedScreen, "name", 300)
BASKETS = Kept(Basket, "name", 200)
OWN_METRICS = Kept(OwnMetric, "key", 200)
OWN_LINES = Kept(OwnLine, "symbol", 2_000, single=False)
PLANS = Kept(Plan, "symbol", 400, single=False)
TRIPWIRES = Kept(Tripwire, "name", 1_000)


def read_stamps(engine: Engine, whose: Whose, *kinds: Kept[Any]) -> list[Stamp]:
    """Stamps of what an owner keeps of some kinds: while one is the same nothing has changed, which takes no reading of thousands
    of rows."""
    parts = []
    for place, kind in enumerate(kinds):
        m = kind.model
        each = func.crc32(func.concat_ws(":", m.id, m.version))
        parts.append(
            select(literal(place).label("place"), func.count(), func.sum(each), func.bit_xor(each)).where(
                *theirs(m, whose), m.deleted_at.is_(None)
            )
        )
    with told(), engine.connect() as connection:
        rows = connection.execute(union_all(*parts)).all()
    return [Stamp(*row[1:]) for row in sorted(rows)]


def record_look(
    engine: Engine,
    screen_id: int,
    market: str,
    session_on: dt.date,
    moment: dt.datetime,
    symbols: list[str],
    now: dt.datetime,
) -> ScreenLook | None:
    """Remember what a saved screen showed of a market at a moment of a session; returns the look before this one."""
    with change(engine) as session:
        looks = select(ScreenLook).where(ScreenLook.screen_id == screen_id, ScreenLook.market == market)
        before = session.scalar(looks.order_by(ScreenLook.looked_at.desc(), ScreenLook.session.desc()).limit(1))
        if before is not None:
            session.expunge(before)
        look = session.get(ScreenLook, (screen_id, market, session_on)) or ScreenLook(
            screen_id=screen_id, market=market, session=session_on
        )
        look.looked_at, look.moment, look.symbols = plain(now), plain(moment), symbols
        session.add(look)
        return before


def plain(moment: dt.datetime) -> dt.datetime:
    """An instant as the store keeps it: UTC without a zone, whole seconds."""
    return moment.astimezone(dt.UTC).replace(tzinfo=None, microsecond=0)
