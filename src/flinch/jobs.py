"""Long work that a request only asks for: submitted, told of, cancelled, and taken up again after a restart."""

from __future__ import annotations

import itertools
import json
import logging
import math
import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from collections.abc import Set as AbstractSet
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import contextmanager, suppress
from typing import Any, NamedTuple

from flinch.core.interrupt import Budget, stopped_by, within
from flinch.errors import FlinchError
from flinch.store.errors import DatabaseAway, DiskFull
from flinch.store.jobs import UNDER_WAY, Job, JobState, JobTable

SPENT_SECONDS = 10.0
"""How much computing one job may ask for, by estimate."""
_WAITING = 20
_REMEMBERED = 50
_BEHIND = 2
"""Steps of the system's priority. Ten keep evidence from ever being done on a machine that others keep busy."""
_NO_ROW = 1 << 40
"""Numbers from which on a job has no row."""
_log = logging.getLogger(__name__)


class Waiting:
    """Few at a time wait for what is under way, so that those who wait do not take the workers of all others."""

    def __init__(self, most: int) -> None:
        self._places = threading.BoundedSemaphore(most)

    def wait(self, event: threading.Event, seconds: float) -> None:
        """Wait for it, so long at most; not at all when so many wait already."""
        if seconds > 0 and not event.is_set() and self._places.acquire(blocking=False):
            try:
                event.wait(seconds)
            finally:
                self._places.release()


WAITING = Waiting(6)
"""Of all jobs and files together."""


class JobCancelled(FlinchError):
    """Somebody, or the end of this process, stopped it."""

    status, kind = 409, "cancelled"

    def __init__(self) -> None:
        super().__init__("This was cancelled. Ask again for it.")


class NoSuchJob(FlinchError):
    """There is no such job, or it is somebody else's."""

    status, kind = 404, "no_such_job"

    def __init__(self) -> None:
        super().__init__("This is not there any more. Ask again for it.")


def behind_requests() -> None:
    """Let the calling thread, and those that it begins, yield a little to requests where there are too few cores for all."""
    with suppress(OSError, AttributeError):
        me = threading.get_native_id()
        os.setpriority(os.PRIO_PROCESS, me, max(_BEHIND, os.getpriority(os.PRIO_PROCESS, me)))


class TooManyJobs(FlinchError):
    """As much waits as may."""

    status, kind, wait = 503, "busy", 5

    def __init__(self) -> None:
        super().__init__("Too much is being computed at once. Wait a moment; Flinch asks again by itself.")


class JobFailed(FlinchError):
    """What a job failed with, told as the request itself would have been."""

    def __init__(self, told: dict[str, Any]) -> None:
        super().__init__(str(told["message"]))
        self.status, self.kind, self.where = int(told["status"]), str(told["kind"]), told["where"]
        self.nearest = list(told["nearest"])


class Unexpected(FlinchError):
    """A mistake of ours."""

    status, kind = 500, "internal"

    def __init__(self) -> None:
        super().__init__("Something went wrong in Flinch itself. Nothing was changed; the server's output says what.")


def _failure(error: FlinchError) -> str:
    told = {"status": error.status, "kind": error.kind, "where": error.where, "nearest": error.nearest}
    return json.dumps(told | {"message": str(error)})


class Handle(NamedTuple):
    """What work is given: whose it is, what was asked for, and where to say how far it is (0 to 1) and at what."""

    owner: int | None
    asked: dict[str, Any]
    tell: Callable[[float, str], None]
    question: Callable[[], None]


Work = Callable[[Handle], str]
"""Does what was asked for and returns the answer as text. Its checkpoints, and `question`, raise when it is to stop."""


class Jobs:
    """The jobs of a table, run by an executor of `concurrent.futures`; `kinds` says what does which.

    The default executor is one thread: kernels let go of the interpreter and use the cores there are, and the market is held in
    memory once. Kinds that are `long` take as long as what they read is, so they have a thread of their own and no bound in
    computing. While the database cannot write, a job goes on without a row, and a restart forgets it.
    """

    def __init__(
        self,
        table: JobTable,
        kinds: dict[str, Work],
        executor: Executor | None = None,
        *,
        long: AbstractSet[str] = frozenset(),
    ) -> None:
        self._table, self._kinds, self._long = table, kinds, long
        self._executor = executor or ThreadPoolExecutor(1, thread_name_prefix="job", initializer=behind_requests)
        self._beside = ThreadPoolExecutor(1, thread_name_prefix="long", initializer=behind_requests)
        self._running: OrderedDict[int, _Running] = OrderedDict()
        self._without_row = itertools.count(_NO_ROW)
        self._lock = threading.Lock()
        self._closing = False

    def submit(self, kind: str, asked: dict[str, Any], *, owner: int | None = None) -> int:
        """Ask for something; returns its number. What is asked for while the same is under way is that.

        Raises TooManyJobs.
        """
        with self._lock:
            waiting = self._waiting()
            for one in waiting:
                if (one.job.kind, one.job.owner, one.job.asked) == (kind, owner, asked) and not one.stop.is_set():
                    return one.job.id
            if len(waiting) >= _WAITING:
                raise TooManyJobs
        try:
            number = self._table.begin(kind, asked, owner=owner)
        except (DatabaseAway, DiskFull):
            number = next(self._without_row)
        self._start(Job(number, kind, asked, "waiting", 0, "", None, owner))
        return number

    def require_room(self, owner: int | None, same: Callable[[dict[str, Any]], bool]) -> None:
        """Refuse at once, before anything is read for what is to be asked. Raises TooManyJobs when there is no room, unless the
        `same` was asked by this owner and is under way."""
        with self._lock:
            waiting = self._waiting()
            if len(waiting) >= _WAITING and not any(one.job.owner == owner and same(one.job.asked) for one in waiting):
                raise TooManyJobs

    def _waiting(self) -> list[_Running]:
        return [one for one in self._running.values() if not one.over.is_set()]

    def take_up(self) -> None:
        """Begin again what the process before left under way; what nobody here can do is marked as interrupted."""
        for job in self._table.under_way():
            if job.kind in self._kinds:
                self._start(job)
            else:
                self._table.end(job.id, "interrupted")

    def look(self, number: int, owner: int | None, wait: float = 0.0, *, kind: str | None = None) -> Job:
        """How a job stands, one of a `kind` where that is given, after at most `wait` seconds if it is not over before and few
        wait. Raises NoSuchJob."""
        with self._lock:
            running = self._running.get(number)
        if running is not None and running.job.owner == owner and kind in (None, running.job.kind):
            WAITING.wait(running.over, wait)
            return running.job
        job = self._table.one(number)
        if job is None or job.owner != owner or kind not in (None, job.kind):
            raise NoSuchJob
        return job

    def answer(self, job: Job) -> str | None:
        """What came of it; None while it is under way. Raises what it failed with, and JobCancelled."""
        if job.state == "done":
            return job.answer
        if job.state == "failed":
            raise JobFailed(json.loads(job.answer or "{}"))
        if job.state in UNDER_WAY:
            return None
        raise JobCancelled

    def cancel(self, number: int, owner: int | None) -> None:
        """Stop it; what is over stays as it is. Raises NoSuchJob."""
        job = self.look(number, owner)
        with self._lock:
            running = self._running.get(number)
        if running is None:
            if job.state in UNDER_WAY:
                self._table.end(number, "cancelled")
            return
        running.stop.set()
        if running.future is not None and running.future.cancel():
            self._over(running, "cancelled", None)

    def close(self) -> None:
        """Stop everything, so that the next start takes it up again."""
        self._closing = True
        with self._lock:
            for running in self._running.values():
                running.stop.set()
        for executor in (self._executor, self._beside):
            executor.shutdown(wait=True, cancel_futures=True)

    def _start(self, job: Job) -> None:
        running = _Running(job)
        with self._lock:
            self._running[job.id] = running
            over = [number for number, one in self._running.items() if one.over.is_set()]
            for number in over[: max(0, len(over) - _REMEMBERED)]:
                del self._running[number]
        executor = self._beside if job.kind in self._long else self._executor
        running.future = executor.submit(self._run, running)

    def _run(self, running: _Running) -> None:
        job = running.job

        def question() -> None:
            if running.stop.is_set():
                raise JobCancelled

        def tell(share: float, stage: str) -> None:
            question()
            percent = int(100 * share)
            if (percent, stage) != (running.job.percent, running.job.stage):
                running.job = running.job._replace(state="running", percent=percent, stage=stage)
                # Who waits is told by this process; the row is for the next one, and is left alone once the database was away.
                if running.has_row:
                    try:
                        self._table.tell(job.id, percent, stage)
                    except FlinchError:
                        running.has_row = False

        try:
            tell(0.0, "waiting for a turn")
            most = math.inf if job.kind in self._long else SPENT_SECONDS
            with within(Budget(most)), stopped_by(question):
                answer = self._kinds[job.kind](Handle(job.owner, job.asked, tell, question))
            self._over(running, "done", answer)
        except JobCancelled:
            self._over(running, "cancelled", None)
        except FlinchError as error:
            self._over(running, "failed", _failure(error))
        except Exception:
            _log.exception("a job of kind %s failed", job.kind)
            self._over(running, "failed", _failure(Unexpected()))

    def _over(self, running: _Running, state: JobState, answer: str | None) -> None:
        if state == "cancelled" and self._closing:
            return  # the row stays under way, for the next start
        if running.job.id < _NO_ROW:
            with suppress(FlinchError):
                self._table.end(running.job.id, state, answer)
        running.job = running.job._replace(state=state, answer=answer)
        running.over.set()


@contextmanager
def told_as_job(table: JobTable, kind: str, asked: dict[str, Any]) -> Iterator[Callable[[float, str], None]]:
    """Work that this process does itself, told of as a job: the body is given what says how far it is (0 to 1) and at what, and
    what raises JobCancelled once somebody cancelled it."""
    number = table.begin(kind, asked)

    def tell(share: float, stage: str) -> None:
        if not table.tell(number, int(100 * share), stage):
            raise JobCancelled

    try:
        yield tell
    except JobCancelled:
        raise
    except BaseException:
        with suppress(FlinchError):
            table.end(number, "failed")
        raise
    table.end(number, "done")


class _Running:
    """A job that this process took up."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self.has_row = job.id < _NO_ROW
        self.stop, self.over = threading.Event(), threading.Event()
        self.future: Future[None] | None = None
