"""Reaching the databases of a folder from a command, whether or not Flinch is being served from it."""

from __future__ import annotations

import contextlib
import fcntl
import json
from collections.abc import Iterator
from pathlib import Path

from flinch.store.databases import Databases
from flinch.store.engine import DatabaseAway, make_engine
from flinch.store.local_server import LocalServer
from flinch.store.migrate import migrate_owned


class AlreadyRunning(Exception):
    """Somebody else works on the folder; the message is one line that says what to do."""


@contextlib.contextmanager
def reached(folder: Path) -> Iterator[Databases]:
    """The databases of a folder: of the server that runs there, or of one that runs for as long as the body does.

    Raises AlreadyRunning when another process holds the folder and its server does not answer yet, and ServerFailed.
    """
    try:
        with only_one(folder):
            server = LocalServer(folder / "database")
            try:
                server.start()
                migrate_owned(make_engine(server.owned_url), server.folder / "aside")
                yield server.databases
            finally:
                server.stop()
    except AlreadyRunning:
        found = _of_another(folder)
        if found is None:
            raise
        yield found


def _of_another(folder: Path) -> Databases | None:
    try:
        told = json.loads((folder / "database" / "reach.json").read_text())
        found = Databases(Path(told["socket"]), told["password"])
        found.markets()
    except (OSError, ValueError, KeyError, DatabaseAway):
        return None
    return found


@contextlib.contextmanager
def only_one(folder: Path) -> Iterator[None]:
    """Hold the folder's lock. The system lets go of it when its holder dies, so it cannot be stale. Raises AlreadyRunning."""
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise AlreadyRunning("Flinch is already running from this folder. Stop it there (Ctrl-C) first.") from None
        yield
