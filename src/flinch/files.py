"""Files that users take out: written beside requests by a thread of their own, told of meanwhile, and handed over when whole."""

from __future__ import annotations

import itertools
import logging
import shutil
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from flinch.errors import FlinchError
from flinch.jobs import WAITING, JobCancelled, NoSuchJob, TooManyJobs, Unexpected, behind_requests

_WAITING, _KEPT = 10, 20
_KEPT_SECONDS = 3_600.0
_log = logging.getLogger(__name__)


class Write(NamedTuple):
    """A file to write: `work` writes it at a path and says what share of it is there, which raises when it is to stop; of which
    kind it is, and under which name it is kept, as answers say it. A `long` one keeps nobody waiting who wants a short one, and
    is the same one when it is asked for again while it is under way."""

    work: Callable[[Path, Callable[[float], None]], None]
    mimetype: str
    disposition: str
    long: str | None = None


class NoRoom(FlinchError):
    """A file could not be written."""

    status, kind = 507, "disk_full"

    def __init__(self, why: str) -> None:
        super().__init__(
            f"The file could not be written ({why}). Make room on the disk for temporary files and try again."
        )


class Asked(NamedTuple):
    """A file that was asked for: how much of it is there, in percent, and where once it is whole; the rest as in `Write`."""

    id: int
    percent: int
    path: Path | None
    mimetype: str
    disposition: str


class Files:
    """Files by owner. One is written at a time, and a long one beside it; ten of either wait at most; the newest twenty are kept
    for an hour.

    They lie in a folder of ours alone, which is made for the first one and goes with this object: what a start before left is
    asked for again.
    """

    def __init__(self) -> None:
        self._folder: Path | None = None
        self._executor = ThreadPoolExecutor(1, thread_name_prefix="file")
        self._beside = ThreadPoolExecutor(1, thread_name_prefix="long-file", initializer=behind_requests)
        self._files: dict[int, _File] = {}
        self._numbers = itertools.count(1)
        self._lock = threading.Lock()

    def begin(self, owner: int, write: Write) -> int:
        """Ask for a file; returns its number. Raises TooManyJobs."""
        with self._lock:
            under_way = [one for one in self._files.values() if not one.over.is_set()]
            for one in under_way:
                if write.long is not None and (one.owner, one.long) == (owner, write.long) and not one.stop.is_set():
                    return one.id
            if sum((one.long is None) == (write.long is None) for one in under_way) >= _WAITING:
                raise TooManyJobs
            if self._folder is None:
                self._folder = Path(tempfile.mkdtemp(prefix="flinch-files-"))
            self._forget()
            file = _File(next(self._numbers), owner, write)
            self._files[file.id] = file
        (self._executor if file.long is None else self._beside).submit(self._write, file)
        return file.id

    def look(self, number: int, owner: int, wait: float = 0.0) -> Asked:
        """How a file stands, after at most `wait` seconds when it is not whole before and few wait.

        Raises NoSuchJob, JobCancelled, and what its writing failed with.
        """
        file = self._of(number, owner)
        WAITING.wait(file.over, wait)
        if file.error is not None:
            raise file.error
        path = self._place(file) if file.over.is_set() else None
        return Asked(number, file.percent, path, file.what.mimetype, file.what.disposition)

    def cancel(self, number: int, owner: int) -> None:
        """Stop it, and remove what is there. Raises NoSuchJob."""
        file = self._of(number, owner)
        file.stop.set()
        with self._lock:
            if file.over.is_set():
                self._remove(file)

    def close(self) -> None:
        """Stop everything and remove it."""
        for file in list(self._files.values()):
            file.stop.set()
        for executor in (self._executor, self._beside):
            executor.shutdown(wait=True, cancel_futures=True)
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)

    def _of(self, number: int, owner: int) -> _File:
        with self._lock:
            file = self._files.get(number)
        if file is None or file.owner != owner:
            raise NoSuchJob
        return file

    def _place(self, file: _File) -> Path:
        assert self._folder is not None, "it is there from the first file on"
        return self._folder / str(file.id)

    def _write(self, file: _File) -> None:
        def tell(share: float) -> None:
            if file.stop.is_set():
                raise JobCancelled
            file.percent = min(99, int(100 * share))

        try:
            tell(0.0)
            file.what.work(self._place(file), tell)
            tell(1.0)
        except FlinchError as error:
            # Without where it was raised, which holds all that was at hand there.
            file.error = error.with_traceback(None)
        except OSError as error:
            file.error = NoRoom(error.strerror or type(error).__name__)
        except Exception:
            _log.exception("a file could not be written")
            file.error = Unexpected()
        if file.error is not None:
            with suppress(OSError):
                self._place(file).unlink(missing_ok=True)
        # What it was written from, a market's version for one, is not kept with it.
        file.what = file.what._replace(work=_nothing)
        file.ended = time.monotonic()
        file.over.set()

    def _forget(self) -> None:
        """What is over for long, and the oldest of too many."""
        over = [one for one in self._files.values() if one.over.is_set()]
        late = time.monotonic() - _KEPT_SECONDS
        for place, file in enumerate(over):
            if file.ended < late or place < len(over) - _KEPT:
                self._remove(file)

    def _remove(self, file: _File) -> None:
        self._files.pop(file.id, None)
        with suppress(OSError):
            self._place(file).unlink(missing_ok=True)


def _nothing(path: Path, tell: Callable[[float], None]) -> None:
    """Nothing is left to write."""


class _File:
    def __init__(self, id: int, owner: int, what: Write) -> None:
        self.id, self.owner, self.what, self.long = id, owner, what, what.long
        self.percent, self.ended = 0, 0.0
        self.error: FlinchError | None = None
        self.stop, self.over = threading.Event(), threading.Event()
