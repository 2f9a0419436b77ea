"""Long computation asks now and then whether it should go on; who asked for it decides."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

_question: ContextVar[Callable[[], None] | None] = ContextVar("question", default=None)


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
