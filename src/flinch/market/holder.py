"""The newest version of the market, swapped in whole when a newer one is published."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from sqlalchemy import Engine
from sqlalchemy.exc import DBAPIError

from flinch.core.rules import METRICS, binned
from flinch.errors import FlinchError
from flinch.market.calibration import calibration_record
from flinch.market.changes import EVERYTHING, Changes, changes
from flinch.market.dictionary import PLAIN
from flinch.market.frame import load_frame
from flinch.market.opened import opened
from flinch.market.shelves import market_record
from flinch.market.structures import compile_structures
from flinch.market.tickets import ticket_table
from flinch.market.view import View
from flinch.memory import give_back
from flinch.store.market.state import Loaded, read_state
from flinch.store.market.writing import Busy, between_moments
from flinch.tape import compile_tape

CHECK_SECONDS = 2.0
_PATIENCE = 2
_LATELY = 300.0
"""Seconds: what was asked for within them is likely asked for again; versions that last less are of a market that moves."""


class MarketNotReady(FlinchError):
    """No complete market has been loaded yet."""

    status, kind = 503, "market_not_ready"

    def __init__(self) -> None:
        super().__init__("The market is still being loaded. This page shows it as soon as it is there.")


class MarketEmpty(FlinchError):
    """Nothing that a page could show was ever loaded into the market."""

    status, kind, wait = 503, "market_empty", 2

    def __init__(self) -> None:
        super().__init__(
            "This market is empty. Bring names, daily bars and one chain on the Data page, and they are shown here."
        )


class MarketHolder:
    """Keeps the newest version. A request takes it once and sees that version to its end."""

    def __init__(self, engine: Engine, folder: Path | None = None) -> None:
        """`folder` keeps the arrays of the newest version for the next start; see `load_frame`."""
        self._engine = engine
        self._folder = folder
        self._newest: View | None = None
        # Of the version served and the one before, by number: nothing of a version that is gone stays for it.
        self._changed: dict[int, Changes] = {}
        self._lock = threading.Lock()
        self._checked = self._gave_back = -1e9
        self._state: Loaded | None = None
        self._empty = False

    def current(self, seconds: float = CHECK_SECONDS) -> View:
        """The market; a newer version is looked for beside the requests, so many seconds after the last look, and they are
        answered from the one held until it is whole.

        Raises MarketEmpty before the first load, MarketNotReady until it is whole and read; DatabaseAway when
        there is neither database nor market.
        """
        newest = self._newest
        if newest is None:
            # Whoever comes first reads it; others are told so at once.
            if not self._lock.acquire(blocking=False):
                raise MarketEmpty if self._empty else MarketNotReady
            try:
                self._refresh()
                # Who comes while somebody else looks is told what was found the last time.
                self._empty = self._newest is None and (self._state is None or self._state.whole)
            finally:
                self._lock.release()
            if self._newest is None:
                raise MarketEmpty if self._empty else MarketNotReady
            return self._newest
        if time.monotonic() - self._checked >= seconds and self._lock.acquire(blocking=False):
            threading.Thread(target=self._look, name="newer market", daemon=True).start()
        return newest

    def changed(self, now: View) -> Changes:
        """What a version says otherwise than the one that was served before it."""
        return self._changed.get(now.data_version, EVERYTHING)

    def coming(self) -> tuple[str, int] | None:
        """What of the market is still being made, and how many percent of it are; None when all is there. As looked at last."""
        state = self._state
        return None if state is None or state.coming is None else (state.coming, state.coming_percent)

    def renew(self) -> None:
        """See to it that who asks from now on is answered from the newest version, which is read first; what somebody loaded is
        theirs to look at when they are told that it is loaded."""
        self._lock.acquire()
        self._look()

    def _look(self) -> None:
        before = self._newest
        try:
            self._refresh()
            if before is not None and self._newest is not None and self._newest is not before:
                _make_again(before, self._newest)
        except (FlinchError, DBAPIError):
            pass  # the version there is served until the database is back, the disk has room, or the market is let go
        finally:
            self._checked = time.monotonic()
            self._lock.release()
            # What requests since the last time have freed.
            if self._checked - self._gave_back >= CHECK_SECONDS:
                self._gave_back = self._checked
                give_back()

    def _refresh(self) -> None:
        state = self._state = read_state(self._engine)
        if state is None or not state.complete:
            return
        if self._newest is None or self._newest.data_version != state.data_version:
            # Moments may come faster than they are read: none is told meanwhile.
            frame = None
            with contextlib.suppress(Busy), between_moments(self._engine, _PATIENCE):
                frame = load_frame(self._engine, self._folder)
            if frame is not None:
                now = opened(frame, self._engine)
                if self._newest is not None:
                    now.version.go_on_from(self._newest.version)
                    before = self._newest.data_version
                    told = {before: self._changed[before]} if before in self._changed else {}
                    self._changed = told | {now.data_version: changes(self._newest, now)}
                self._newest = now
            self._checked = time.monotonic()


def _make_again(before: View, now: View) -> None:
    """What had been made of all names' prints and trades, so that the first to ask it of the newer version need not wait; while
    moments come fast, what pages asked of them lately alone."""
    made: dict[str, Callable[[], object]] = {
        "print series": lambda: now.column(PLAIN.read("print_notional").node),
        "tickets": lambda: ticket_table(now),
        "calibration": lambda: calibration_record(now),
    }
    fast = time.monotonic() - before.version.made_at < _LATELY
    with now.version.nobody_asks():
        for kind, make in made.items():
            if before.version.asked(kind, _LATELY) or (not fast and before.version.has(kind)):
                make()


def warm(view: View, progress: Callable[[float], None]) -> None:
    """Compute every metric of the catalogue at the newest session, compile what the tape runs, and read it; `progress` gets the
    share that is done."""
    with view.version.nobody_asks():
        _warm(view, progress)


def _warm(view: View, progress: Callable[[float], None]) -> None:
    for done, key in enumerate(METRICS):
        progress(done / len(METRICS))
        view.column(PLAIN.read(key).node)
    compile_tape()
    compile_structures(view)
    calibration_record(view)
    market_record(view)
    table = ticket_table(view)
    # What the first look at it needs is found once.
    _ = table.contract
    binned(table.values("premium"), (0.0, 1.0), "linear").counts(np.ones(table.size, np.bool_))
    progress(1.0)
