"""Changes are known by the key they were sent under, so that one that is sent again is not done again.

The key is kept in the same transaction as the change itself: either both are there, or neither.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from sqlalchemy import Engine, delete, insert, select, update
from sqlalchemy.orm import Session

from flinch.clock import wall
from flinch.store.engine import transaction
from flinch.store.owned.models import WriteKey

KEPT = dt.timedelta(days=2)


@dataclass
class Pending:
    """The key of the change at hand; `kept` once a transaction has kept it."""

    owner_id: int
    key: str
    path: str
    kept: bool = False


_pending: ContextVar[Pending | None] = ContextVar("pending", default=None)


@contextmanager
def under_key(pending: Pending) -> Iterator[None]:
    """Whatever is changed in the body is kept under this key."""
    token = _pending.set(pending)
    try:
        yield
    finally:
        _pending.reset(token)


@contextmanager
def change(engine: Engine) -> Iterator[Session]:
    """A transaction on what users own: what it changes is kept together with the key that the change was sent under."""
    with transaction(engine, keep_key) as session:
        yield session


def keep_key(session: Session) -> None:
    """Keep the key of the change at hand in its transaction, and forget those that nobody sends again."""
    pending = _pending.get()
    if pending is None or pending.kept:
        return
    now = wall().replace(tzinfo=None, microsecond=0)
    w = WriteKey
    session.execute(delete(w).where(w.owner_id == pending.owner_id, w.at < now - KEPT))
    session.execute(
        insert(w).values(owner_id=pending.owner_id, key=pending.key, path=pending.path, answer=None, at=now)
    )
    pending.kept = True


def known_answer(engine: Engine, owner_id: int, key: str) -> tuple[str, str | None] | None:
    """Path and answer of the change that was kept under a key; None when none was."""
    with Session(engine) as session:
        row = session.execute(
            select(WriteKey.path, WriteKey.answer).where(WriteKey.owner_id == owner_id, WriteKey.key == key)
        ).first()
        return (row[0], row[1]) if row else None


def keep_answer(engine: Engine, pending: Pending, answer: str) -> None:
    """Keep what was answered to a change that was kept."""
    with Session(engine) as session, session.begin():
        w = WriteKey
        session.execute(update(w).where(w.owner_id == pending.owner_id, w.key == pending.key).values(answer=answer))
