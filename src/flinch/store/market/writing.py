"""One at a time writes to a market."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager

from sqlalchemy import Engine, text

from flinch.errors import FlinchError
from flinch.store.engine import told


class Busy(FlinchError):
    """Another process writes to the market."""

    status, kind = 409, "being_written"

    def __init__(self) -> None:
        super().__init__(
            "Another import or publish of this market is under way. Try again when it has ended; nothing was changed."
        )


def alone(engine: Engine, patience: int = 0) -> AbstractContextManager[None]:
    """Within it nobody else writes to the market; the server lets go of it when this process ends. Raises Busy when somebody does
    and has not ended after so many seconds."""
    return _locked(engine, f"flinch writes {engine.url.database}", patience)


def between_moments(engine: Engine, patience: int) -> AbstractContextManager[None]:
    """Within it a source that goes on tells no moment: it waits until a version is read, and who reads one until a moment is
    whole. Raises Busy after so many seconds."""
    return _locked(engine, f"flinch reads {engine.url.database}", patience)


@contextmanager
def _locked(engine: Engine, name: str, patience: int) -> Iterator[None]:
    lock = {"name": name}
    with told(), engine.connect() as connection:
        if not connection.execute(text("SELECT GET_LOCK(:name, :patience)"), lock | {"patience": patience}).scalar():
            raise Busy
        try:
            yield
        finally:
            # Who is ended in the middle of a statement has no connection that could tell it.
            try:
                connection.execute(text("SELECT RELEASE_LOCK(:name)"), lock)
            except Exception:
                connection.invalidate()
