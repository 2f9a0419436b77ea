"""Long computation asks now and then whether it should go on; who asked for it decides."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import ContextVar, copy_context
from typing import TypeVar

from flinch.errors import FlinchError

T = TypeVar("T")
R = TypeVar("R")

_question: ContextVar[Callable[[], None] | None] = ContextVar("question", default=None)


class TooCostly(FlinchError):
    """What was asked for takes more computing than may be spent on it; `seconds` is about how much, `most` how much may be."""

    kind, where = "too_costly", "rules"

    def __init__(self, seconds: float, most: float) -> None:
        super().__init__(
            f"This would take about {seconds:.1f} seconds of computing; one request may take {most:.0f}. "
            "Use shorter windows, or fewer rules and columns at once."
        )
        self.seconds = seconds
        self.most = most


class DeadlineReached(FlinchError):
    """What was asked for took longer than it may."""

    status, kind = 503, "too_slow"

    def __init__(self, seconds: float) -> None:
        super().__init__(
            f"This took longer than the {seconds:.0f} seconds that a request may take and was stopped. Ask for less."
        )


class Budget:
    """Seconds of computing that may be spent, by estimate: it is the same on a busy machine."""

    def __init__(self, most: float) -> None:
        self.most = most
        self.spent = 0.0

    def spend(self, seconds: float) -> None:
        """Take from the budget; raises TooCostly before anything is computed."""
        if self.spent + seconds > self.most:
            raise TooCostly(self.spent + seconds, self.most)
        self.spent += seconds


_budget: ContextVar[Budget | None] = ContextVar("budget", default=None)


def spend(seconds: float) -> None:
    """Take from the budget in force, if there is one."""
    budget = _budget.get()
    if budget is not None:
        budget.spend(seconds)


@contextmanager
def within(budget: Budget) -> Iterator[None]:
    """While the body runs, `spend` takes from this budget."""
    token = _budget.set(budget)
    try:
        yield
    finally:
        _budget.reset(token)


def checkpoint() -> None:
    """Go on, or raise what the question asked by `stopped_by` raises."""
    question = _question.get()
    if question is not None:
        question()


@contextmanager
def stopped_by(question: Callable[[], None]) -> Iterator[None]:
    """While the body runs, `checkpoint` calls `question`, which raises to stop it."""
    token = _question.set(question)
    try:
        yield
    finally:
        _question.reset(token)


def in_threads(work: Callable[[T], R], items: Sequence[T], most: int) -> list[R]:
    """`work` on every item, in their order, by at most so many threads and no more than there are cores; each asks and spends as
    the caller does."""
    context = copy_context()
    with ThreadPoolExecutor(max(1, min(most, len(items), os.cpu_count() or 1))) as pool:
        return list(pool.map(lambda item: context.copy().run(work, item), items))
