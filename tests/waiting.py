"""The one way in which tests wait: for something to be so, as long as a very busy machine may need, and not a moment longer."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

PATIENCE = 180
"""Seconds after which what was waited for is taken never to come; no test that passes comes near."""


def comes(signal: threading.Event | threading.Semaphore) -> bool:
    """Wait for an event, or for one release of a semaphore."""
    if isinstance(signal, threading.Event):
        return signal.wait(PATIENCE)
    return signal.acquire(timeout=PATIENCE)


def until(question: Callable[[], object], what: str = "it") -> None:
    """Wait until a question is answered with something true; an error of the kind of a lost connection counts as not yet."""
    deadline = time.monotonic() + PATIENCE
    while True:
        try:
            if question():
                return
        except OSError:
            pass
        assert time.monotonic() < deadline, f"{what} did not come"
        time.sleep(0.02)


def slowly(seconds: float) -> None:
    """Be a slow server: part of what a test sets up, never a way to wait."""
    time.sleep(seconds)
