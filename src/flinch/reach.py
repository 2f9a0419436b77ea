"""Reaching the databases of a folder from a command, whether or not Flinch is being served from it."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator
from pathlib import Path

from flinch.folder import AlreadyRunning, only_one
from flinch.store.databases import Databases
from flinch.store.engine import make_engine
from flinch.store.errors import DatabaseAway
from flinch.store.local_server import LocalServer
from flinch.store.migrate import migrate_owned


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
