"""Rows that tell of long work: what was asked for, how far it is, and what came of it."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal, NamedTuple

from sqlalchemy import JSON, DateTime, Engine, Integer, SmallInteger, String, delete, select, update
from sqlalchemy.dialects.mysql import MEDIUMTEXT
from sqlalchemy.orm import Mapped, Session, mapped_column

from flinch.clock import wall
from flinch.store.engine import transaction

JobState = Literal["waiting", "running", "done", "failed", "cancelled", "interrupted"]
UNDER_WAY: tuple[JobState, ...] = ("waiting", "running")
_KEPT = 100
"""Jobs that are over of which rows are kept."""


class JobColumns:
    """Columns of a table of jobs: `percent` is how far one is, `stage` at what, `answer` what came of it."""

    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    kind: Mapped[str] = mapped_column(String(32))
    asked: Mapped[dict[str, Any]] = mapped_column(JSON)
    state: Mapped[str] = mapped_column(String(12), index=True)
    percent: Mapped[int] = mapped_column(SmallInteger)
    stage: Mapped[str] = mapped_column(String(200))
    answer: Mapped[str | None] = mapped_column(MEDIUMTEXT)
    submitted_at: Mapped[dt.datetime] = mapped_column(DateTime)
    changed_at: Mapped[dt.datetime] = mapped_column(DateTime)


class Job(NamedTuple):
    """A job as its row tells; instants are UTC."""

    id: int
    kind: str
    asked: dict[str, Any]
    state: JobState
    percent: int
    stage: str
    answer: str | None
    owner: int | None


class JobTable:
    """The jobs of a database: those of users, each with an owner, or those of a market."""

    def __init__(self, engine: Engine, table: type[Any]) -> None:
        self.engine, self.table = engine, table

    def begin(self, kind: str, asked: dict[str, Any], *, owner: int | None = None, stage: str = "") -> int:
        """Write down that something was asked for; returns its number. Rows of the oldest that are over go."""
        with transaction(self.engine) as session:
            number = add_job(session, self.table, kind, asked, stage, "waiting", owner)
            over = self.table.state.not_in(UNDER_WAY)
            oldest = session.scalars(
                select(self.table.id).where(over).order_by(self.table.id.desc()).offset(_KEPT).limit(1)
            ).first()
            if oldest is not None:
                session.execute(delete(self.table).where(over, self.table.id <= oldest))
        return number

    def tell(self, number: int, percent: int, stage: str) -> bool:
        """Say how far one is; returns whether it is under way still, and not cancelled."""
        with transaction(self.engine) as session:
            row = session.get(self.table, number)
            if row is None or row.state not in UNDER_WAY:
                return False
            row.state, row.percent, row.stage, row.changed_at = "running", percent, stage, _now()
            return True

    def end(self, number: int, state: JobState, answer: str | None = None) -> None:
        """Say what came of one; what is over stays as it is."""
        with transaction(self.engine) as session:
            values = {"state": state, "answer": answer, "changed_at": _now()}
            session.execute(
                update(self.table)
                .where(self.table.id == number, self.table.state.in_(UNDER_WAY))
                .values(values | ({"percent": 100} if state == "done" else {}))
            )

    def one(self, number: int) -> Job | None:
        """A job by its number."""
        with transaction(self.engine) as session:
            row = session.get(self.table, number)
            return None if row is None else _told(row)

    def under_way(self) -> list[Job]:
        """Those that wait or run, the oldest first; after a start these are what the one before left."""
        with transaction(self.engine) as session:
            rows = session.scalars(
                select(self.table).where(self.table.state.in_(UNDER_WAY)).order_by(self.table.id)
            ).all()
            return [_told(row) for row in rows]


def add_job(
    session: Session,
    table: type[Any],
    kind: str,
    asked: dict[str, Any],
    stage: str,
    state: JobState,
    owner: int | None = None,
) -> int:
    """A new row within a transaction; returns its number."""
    row = table(kind=kind, asked=asked, state=state, percent=0, stage=stage, submitted_at=_now(), changed_at=_now())
    if owner is not None:
        row.owner_id = owner
    session.add(row)
    session.flush()
    number: int = row.id
    return number


def _now() -> dt.datetime:
    return wall().replace(tzinfo=None, microsecond=0)


def _told(row: Any) -> Job:
    owner = getattr(row, "owner_id", None)
    return Job(row.id, row.kind, row.asked, row.state, row.percent, row.stage, row.answer, owner)
