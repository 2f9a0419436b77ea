"""Watching armed tripwires on every moment of their markets, in a thread of its own; no request waits for it.

Moments may come faster than they are served, and some while Flinch is off: those between the one that was watched last and the
newest are played again, in order, before it, and what trips then is told as missed.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import threading
import time
from collections.abc import Iterator

from sqlalchemy import Engine
from sqlalchemy.exc import DBAPIError

from flinch.errors import FlinchError
from flinch.live import LOOK_SECONDS, Live
from flinch.market import Markets, NotKept, View, view_at
from flinch.store.market.run import FIRST_LOOK
from flinch.store.owned.kept import plain
from flinch.store.owned.trips import armed_markets, keep_moment, read_armed, read_remembered, read_watched
from flinch.watching.tripwires import is_new, look

_KNOWN_SECONDS = 10.0
"""How long it is taken to be known on which markets something is armed."""
MOST_SESSIONS = 10
"""Sessions that are over, and were missed whole, of which the closes are looked at."""
_MINUTE = dt.timedelta(minutes=1)


class Watcher:
    """Watches until it is closed. `wake` tells it that something was armed or changed."""

    def __init__(self, owned: Engine, markets: Markets, live: Live) -> None:
        self._owned, self._markets, self._live = owned, markets, live
        self._closed, self._woken = threading.Event(), threading.Event()
        self._thread: threading.Thread | None = None
        self._lock = threading.Lock()
        self._seen: dict[str, int] = {}

    def begin(self) -> None:
        """Watch from now on."""
        with self._lock:
            if self._thread is None and not self._closed.is_set():
                self._thread = threading.Thread(target=self._run, name="watching", daemon=True)
                self._thread.start()

    def wake(self) -> None:
        """Look anew at what is armed."""
        self._woken.set()

    def close(self) -> None:
        """Watch no more."""
        self._closed.set()
        with self._lock:
            if self._thread is not None:
                self._thread.join(30)

    def _run(self) -> None:
        names: list[str] = []
        known = -1e9
        while not self._closed.wait(LOOK_SECONDS):
            if self._woken.is_set() or time.monotonic() - known > _KNOWN_SECONDS:
                self._woken.clear()
                # While the database is away what was known is watched on.
                with contextlib.suppress(FlinchError, DBAPIError):
                    names, known = armed_markets(self._owned), time.monotonic()
                    self._seen.clear()
            for name in names:
                # Whatever happens to one market, the others are watched.
                with contextlib.suppress(Exception):
                    version = self._markets.open(name).holder.current(LOOK_SECONDS).data_version
                    if self._seen.get(name) != version:
                        self.look(name)
                        self._seen[name] = version

    def look(self, name: str) -> int:
        """Watch a market up to its newest moment; how many names tripped."""
        newest = self._markets.open(name).holder.current(LOOK_SECONDS)
        told = 0
        for view, missed in self._moments(name, newest):
            if self._closed.is_set():
                break
            told += self._watch(name, view, missed=missed)
        return told

    def _moments(self, name: str, newest: View) -> Iterator[tuple[View, bool]]:
        """Moments that have not been watched, in order, and whether each was missed. The newest one is always looked at where
        nothing is remembered of a tripwire yet."""
        before = read_watched(self._owned, name)
        if before is not None and before < newest.as_of:
            yield from ((view, True) for view in missed_moments(newest, before, self._closed))
        yield newest, False

    def _watch(self, name: str, view: View, *, missed: bool) -> int:
        before = read_watched(self._owned, name)
        tripwires = read_armed(self._owned, name)
        remembered = read_remembered(self._owned, [one.id for one in tripwires])
        # One that was armed after a moment did not wait then.
        tripwires = [one for one in tripwires if one.armed_at is not None and one.armed_at <= plain(view.as_of)]
        if before == view.as_of:
            # What was armed since is looked at for the first time.
            tripwires = [one for one in tripwires if is_new(one, remembered.get(one.id))]
            if not tripwires:
                return 0
        found = look(view, self._owned, tripwires, remembered, missed=missed)
        kept = keep_moment(self._owned, name, before, view.as_of, found.trips, found.remembered)
        if kept:
            self._live.say(name, "trip", {"market": name, "trips": len(kept), "newest": kept[-1]})
        return len(kept or [])


def missed_moments(newest: View, before: dt.datetime, closed: threading.Event) -> Iterator[View]:
    """The moments after `before` and before the newest one that can be looked at: minutes of its own session, and of the one that
    it was in the middle of; of sessions between the closes."""
    hours = newest.hours
    then = hours.day_of(before)
    for session in range(max(newest.last - MOST_SESSIONS, 0), newest.end):
        day = newest.date(session)
        if day < then:
            continue
        opens, closes = hours.opens(day), hours.closes(day)
        if then < day < newest.today:
            yield newest.at(session)
            continue
        minute = max(opens + FIRST_LOOK, _whole(before) + _MINUTE)
        while minute < min(closes, newest.as_of) and not closed.is_set():
            with contextlib.suppress(NotKept):
                yield view_at(newest, minute.astimezone(hours.zone).replace(tzinfo=None))
            minute += _MINUTE
        if day < newest.today and closes > before:
            yield newest.at(session)


def _whole(moment: dt.datetime) -> dt.datetime:
    return moment.replace(second=0, microsecond=0)
