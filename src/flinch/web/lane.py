"""Deadlines, and the lane of costly work: bounded, the cheapest first, given up when its caller is gone."""

from __future__ import annotations

import heapq
import itertools
import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager

from flask import g, has_request_context, request

from flinch.core.interrupt import Budget, DeadlineReached, stopped_by, within
from flinch.errors import FlinchError

SECONDS = 12.0
"""How long a request may take, waiting included."""
SPENT_SECONDS = 2.0
"""How much computing one request may ask for, by estimate."""
_POLL = 0.05


class CallerGone(FlinchError):
    """Nobody waits for the answer any more."""

    status, kind = 503, "caller_gone"

    def __init__(self) -> None:
        super().__init__("Nobody waits for this answer.")


class LaneFull(FlinchError):
    """As much costly work waits as may."""

    status, kind, wait = 503, "busy", 2

    def __init__(self) -> None:
        super().__init__("Too much is asked at once. Wait a moment; Flinch asks again by itself.")


def begin_request() -> None:
    """Note when the request must be over, and what it may spend."""
    g.deadline = time.monotonic() + SECONDS
    g.budget = ExitStack()
    g.budget.enter_context(within(Budget(SPENT_SECONDS)))


def end_request(error: BaseException | None = None) -> None:
    """The budget ends with the request."""
    budget = g.pop("budget", None)
    if budget is not None:
        budget.close()


def give_up_when_late_or_alone() -> None:
    """Raise DeadlineReached or CallerGone for the request at hand; nothing outside one."""
    if not has_request_context():
        return
    if time.monotonic() > g.get("deadline", float("inf")):
        raise DeadlineReached(SECONDS)
    gone = request.environ.get("waitress.client_disconnected")
    if gone is not None and gone():
        raise CallerGone


class Lane:
    """At most `width` pieces of work at a time and `most` waiting; those that cost least go first.

    Of equal ones the one that came first. Work that is under way is never interrupted for another.
    """

    def __init__(self, width: int, most: int) -> None:
        self.width = width
        self.most = most
        self._running = 0
        self._waiting: list[tuple[float, int]] = []
        self._number = itertools.count()
        self._changed = threading.Condition()

    @contextmanager
    def turn(self, cost: float, question: Callable[[], None] = give_up_when_late_or_alone) -> Iterator[None]:
        """Wait for a turn, then run the body; `question` is asked meanwhile and by the body's checkpoints, and raises to stop.

        Raises LaneFull at once when too many wait already.
        """
        me = (cost, next(self._number))
        with self._changed:
            if len(self._waiting) >= self.most:
                raise LaneFull
            heapq.heappush(self._waiting, me)
            try:
                while self._running >= self.width or self._waiting[0] != me:
                    self._changed.wait(_POLL)
                    question()
            except BaseException:
                self._waiting.remove(me)
                heapq.heapify(self._waiting)
                self._changed.notify_all()
                raise
            heapq.heappop(self._waiting)
            self._running += 1
            self._changed.notify_all()
        try:
            with stopped_by(self._asked_at_times(question)):
                yield
        finally:
            with self._changed:
                self._running -= 1
                self._changed.notify_all()

    @staticmethod
    def _asked_at_times(question: Callable[[], None]) -> Callable[[], None]:
        """Checkpoints come by the thousand; the question is asked twenty times a second."""
        last = time.monotonic()

        def ask() -> None:
            nonlocal last
            now = time.monotonic()
            if now - last >= _POLL:
                last = now
                question()

        return ask


COSTLY = Lane(width=max(1, os.cpu_count() or 1), most=20)
