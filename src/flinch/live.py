"""Who listens to a market is told of its moments: one thread looks at the markets that are listened to, and no worker waits."""

from __future__ import annotations

import contextlib
import json
import threading
import time

from sqlalchemy.exc import DBAPIError

from flinch.clock import wall
from flinch.errors import FlinchError
from flinch.market import Market, Markets, View
from flinch.market.age import ages
from flinch.serving import Stream
from flinch.store.market.run import read_run

MOST = 600
"""Listeners at a time; each is a connection."""
LOOK_SECONDS = 0.25
"""How long a moment waits to be seen, at most."""
_BEAT_SECONDS = 10.0
"""How often who listens to a market that stands still hears that it is listened to."""
_BEAT = b"event: here\ndata: 1\n\n"


class TooManyListen(FlinchError):
    """As many pages are told of moments as may be."""

    status, kind, wait = 503, "too_many_listen", 15

    def __init__(self) -> None:
        super().__init__("Too many pages listen at once. This one asks by itself every few seconds instead.")


def event(kind: str, told: dict[str, object], number: int) -> bytes:
    """An event as a stream of events has it (HTML, server-sent events), with a number that the browser gives back."""
    return f"id: {number}\nevent: {kind}\ndata: {json.dumps(told, separators=(',', ':'))}\n\n".encode()


def moment(market: Market) -> bytes:
    """The event that tells of the version of a market that is served, 0 for none."""
    try:
        now = market.holder.current(LOOK_SECONDS)
    except FlinchError as error:
        return event("moment", {"market": market.name, "version": 0, "why": error.kind}, 0)
    coming = market.holder.coming()
    changed = market.holder.changed(now)
    told = {
        "market": market.name,
        "version": now.data_version,
        "as_of": now.as_of.isoformat(),
        "session": now.today.isoformat(),
        "coming": coming is not None,
        "before": changed.before,
        "kinds": changed.kinds,
        "names": changed.names,
        "age": _ages(market, now),
    }
    return event("moment", told, now.data_version)


def _ages(market: Market, now: View) -> dict[str, str]:
    """How old each kind is; of none while the database is away."""
    with contextlib.suppress(FlinchError, DBAPIError):
        return {one.kind: one.age for one in ages(now, read_run(market.engine), wall())}
    return {}


class Live:
    """The listeners of all markets; see `listen`."""

    def __init__(self, markets: Markets) -> None:
        self._markets = markets
        self._lock = threading.Lock()
        self._listeners: dict[str, dict[Stream, bytes]] = {}
        self._closed = threading.Event()
        self._looking: threading.Thread | None = None

    def require_room(self) -> None:
        """Raises TooManyListen."""
        with self._lock:
            if sum(map(len, self._listeners.values())) >= MOST:
                raise TooManyListen

    def listen(self, name: str, stream: Stream, told: bytes) -> None:
        """From now on tell a stream of a market's moments; `told` is the one that it knows."""
        with self._lock:
            if self._closed.is_set():
                stream.end()
                return
            self._listeners.setdefault(name, {})[stream] = told
            if self._looking is None:
                self._looking = threading.Thread(target=self._look, name="live", daemon=True)
                self._looking.start()

    def say(self, name: str, kind: str, told: dict[str, object]) -> None:
        """Tell everybody who listens to a market something beside its moments."""
        news = f"event: {kind}\ndata: {json.dumps(told, separators=(',', ':'))}\n\n".encode()
        with self._lock:
            streams = list(self._listeners.get(name, {}))
        for stream in streams:
            # One that is over is found to be so with the next moment.
            stream.tell(news)

    def listeners(self) -> int:
        """How many there are."""
        with self._lock:
            return sum(map(len, self._listeners.values()))

    def close(self) -> None:
        """Let go of all of them."""
        self._closed.set()
        with self._lock:
            every = [stream for streams in self._listeners.values() for stream in streams]
            self._listeners.clear()
        for stream in every:
            stream.end()
        if self._looking is not None:
            self._looking.join(10)

    def _look(self) -> None:
        beat = time.monotonic()
        while not self._closed.wait(LOOK_SECONDS):
            now = time.monotonic()
            due, beat = now - beat >= _BEAT_SECONDS, now if now - beat >= _BEAT_SECONDS else beat
            with self._lock:
                names = list(self._listeners)
            for name in names:
                # Whatever happens to one moment of one market, all others are told.
                with contextlib.suppress(Exception):
                    self._tell(name, due)

    def _tell(self, name: str, beat: bool) -> None:
        told: bytes | None = None
        # A market that cannot be reached now has no moment; who listens hears that they are listened to.
        with contextlib.suppress(FlinchError, DBAPIError):
            told = moment(self._markets.open(name))
        with self._lock:
            streams = dict(self._listeners.get(name, {}))
        for stream, known in streams.items():
            stream.go_on()
            news = told if told is not None and told != known else None
            if news is None and not beat:
                continue
            there = stream.tell(_BEAT if news is None else news)
            with self._lock:
                # Of a market that nobody listens to any more nothing stays.
                listening = self._listeners.get(name, {})
                if not there:
                    listening.pop(stream, None)
                    if not listening:
                        self._listeners.pop(name, None)
                elif news is not None and stream in listening:
                    listening[stream] = news
