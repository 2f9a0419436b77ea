"""The folder of a Flinch is one process's at a time."""

from __future__ import annotations

import contextlib
import fcntl
from collections.abc import Iterator
from pathlib import Path


class AlreadyRunning(Exception):
    """Somebody else works on the folder; the message is one line that says what to do."""


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
