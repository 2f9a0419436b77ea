"""The tray: an owner's working list of a market, with undo."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal, NamedTuple

from sqlalchemy import Engine, delete, func, select
from sqlalchemy.orm import Session

from flinch.clock import wall
from flinch.errors import FlinchError
from flinch.store.owned.kept import ChangedElsewhere, plain
from flinch.store.owned.models import Owner, TrayEntry, TrayStep
from flinch.store.owned.owners import Whose, said_by, theirs
from flinch.store.owned.write_keys import change

Operation = Literal["keep", "add", "remove", "replace"]

MOST_ENTRIES = 500
MOST_STEPS = 50


class Entry(NamedTuple):
    """A name in the tray, why it came and when (UTC)."""

    symbol: str
    why: dict[str, Any]
    added_at: dt.datetime


class Tray(NamedTuple):
    """The tray's names in the order they came, what undo would take back (None when there is nothing), and its version."""

    entries: list[Entry]
    undo: str | None
    version: int


class TrayFull(FlinchError):
    """More names than a tray holds."""

    status, kind = 409, "tray_full"

    def __init__(self) -> None:
        super().__init__(f"The tray holds {MOST_ENTRIES} names. Remove some first; nothing was added.")


def read_tray(engine: Engine, whose: Whose) -> Tray:
    """The owner's tray."""
    with change(engine) as session:
        return _tray(session, whose)


def tray_symbols(engine: Engine, whose: Whose) -> list[str]:
    """The tray's names alone, in the order they came."""
    with change(engine) as session:
        wanted = select(TrayEntry.symbol).where(*theirs(TrayEntry, whose)).order_by(TrayEntry.position)
        return list(session.scalars(wanted))


def add_to_tray(engine: Engine, whose: Whose, entries: list[tuple[str, dict[str, Any]]], now: dt.datetime) -> Tray:
    """Add (symbol, why) pairs that are not there yet, in one undoable step; raises TrayFull and adds none if too many."""
    return change_tray(engine, whose, "add", dict(entries), now)


def remove_from_tray(engine: Engine, whose: Whose, symbols: list[str] | None, *, version: int | None = None) -> Tray:
    """Take names out in one undoable step; None takes out all, which may raise ChangedElsewhere as `change_tray` says."""
    if symbols is None:
        return change_tray(engine, whose, "keep", {}, verb="clear", version=version)
    return change_tray(engine, whose, "remove", {symbol: {} for symbol in symbols})


def change_tray(
    engine: Engine,
    whose: Whose,
    op: Operation,
    listed: dict[str, dict[str, Any]],
    now: dt.datetime | None = None,
    *,
    verb: str | None = None,
    about: str | None = None,
    version: int | None = None,
) -> Tray:
    """Change the tray by a list of names, symbol to why, in one step that undo takes back.

    `op` is "keep" (only names on the list stay), "add" (those not there yet come), "remove" (names on the list go) or
    "replace" (the list takes the tray's place; names that stay keep why they came). `now` is when names come. The step is
    called by `verb`, else `op`, and what it is `about`, else the names that changed. Raises TrayFull and changes nothing.

    With a `version`, that of the tray which the change was made on, a change that would take away what came since raises
    ChangedElsewhere; adding, and taking out names that are on the list, goes together with whatever others did.
    """
    with change(engine) as session:
        present = _entries(session, whose)
        if op in ("keep", "replace"):
            _require_version(session, whose, version)
        symbols = [entry.symbol for entry in present]
        goes = [] if op == "add" else [symbol for symbol in symbols if (symbol in listed) == (op == "remove")]
        comes = [symbol for symbol in listed if symbol not in symbols] if op in ("add", "replace") else []
        if len(symbols) - len(goes) + len(comes) > MOST_ENTRIES:
            raise TrayFull
        if goes or comes:
            changed = [*comes, *goes]
            names = changed[0] if len(changed) == 1 else f"{len(changed)} names"
            _remember(session, whose, f"{verb or op} {about or names}"[:120], present)
            session.execute(delete(TrayEntry).where(*theirs(TrayEntry, whose), TrayEntry.symbol.in_(goes)))
            last = max((entry.position for entry in present), default=0)
            moment = plain(now or wall())
            for offset, symbol in enumerate(comes, 1):
                row = TrayEntry(**said_by(TrayEntry, whose), symbol=symbol, position=last + offset, why=listed[symbol])
                row.added_at = moment
                session.add(row)
        return _tray(session, whose)


def undo_tray(engine: Engine, whose: Whose, *, version: int | None = None) -> Tray:
    """Restore the tray as it was before its last change; with nothing to undo it stays as it is.

    Raises ChangedElsewhere when the last change is not the one that the tray of that `version` showed.
    """
    with change(engine) as session:
        _entries(session, whose)
        _require_version(session, whose, version)
        step = _last_step(session, whose)
        if step is not None:
            session.execute(delete(TrayEntry).where(*theirs(TrayEntry, whose)))
            for row in step.before:
                moment = dt.datetime.fromisoformat(row["added_at"])
                session.add(
                    TrayEntry(
                        **said_by(TrayEntry, whose),
                        symbol=row["symbol"],
                        position=row["position"],
                        why=row["why"],
                        added_at=moment,
                    )
                )
            session.delete(step)
        return _tray(session, whose)


def _entries(session: Session, whose: Whose) -> list[TrayEntry]:
    """The entries, with the owner's row locked so that two changes at once follow each other."""
    session.execute(select(Owner.id).where(Owner.id == whose.owner).with_for_update())
    return list(session.scalars(select(TrayEntry).where(*theirs(TrayEntry, whose)).order_by(TrayEntry.position)))


def _last_step(session: Session, whose: Whose) -> TrayStep | None:
    return session.scalar(select(TrayStep).where(*theirs(TrayStep, whose)).order_by(TrayStep.id.desc()).limit(1))


def _tray(session: Session, whose: Whose) -> Tray:
    session.flush()
    rows = session.scalars(select(TrayEntry).where(*theirs(TrayEntry, whose)).order_by(TrayEntry.position))
    step = _last_step(session, whose)
    entries = [Entry(row.symbol, row.why, row.added_at.replace(tzinfo=dt.UTC)) for row in rows]
    return Tray(entries, step.what if step else None, step.id if step else 0)


def _require_version(session: Session, whose: Whose, version: int | None) -> None:
    step = _last_step(session, whose)
    newest = step.id if step else 0
    if version is not None and version != newest:
        raise ChangedElsewhere("The tray", newest)


def _remember(session: Session, whose: Whose, what: str, before: list[TrayEntry]) -> None:
    rows = [
        {"symbol": e.symbol, "position": e.position, "why": e.why, "added_at": e.added_at.isoformat()} for e in before
    ]
    session.add(TrayStep(**said_by(TrayStep, whose), what=what, before=rows))
    session.flush()
    count = session.scalar(select(func.count()).select_from(TrayStep).where(*theirs(TrayStep, whose))) or 0
    if count > MOST_STEPS:
        oldest = select(TrayStep.id).where(*theirs(TrayStep, whose)).order_by(TrayStep.id).limit(count - MOST_STEPS)
        session.execute(delete(TrayStep).where(TrayStep.id.in_(list(session.scalars(oldest)))))
