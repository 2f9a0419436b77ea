"""Markets side by side: each is read when it is first asked for, and let go when nobody asks any more."""

from __future__ import annotations

import contextlib
import shutil
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from rapidfuzz import process
from sqlalchemy import Engine
from sqlalchemy.exc import DBAPIError

from flinch.errors import FlinchError
from flinch.market.columns import forget_others
from flinch.market.holder import MarketHolder
from flinch.store.databases import DEMO, Databases
from flinch.store.engine import make_engine
from flinch.store.errors import DatabaseAway
from flinch.store.market.settings import MarketSettings, read_settings
from flinch.store.migrate import migrate_market

_LOOK_SECONDS = 2.0
_UNUSED_SECONDS = 600.0
"""A market that nobody asked for so long is let go while another one is used."""


class NoSuchMarket(FlinchError):
    """No market of this name is there."""

    status, kind, where = 404, "no_such_market", "market"

    def __init__(self, name: str, names: list[str]) -> None:
        near = [found for found, *_ in process.extract(name, names, limit=1, score_cutoff=60)]
        words = f"There is no market {name[:40]!r}." + (f" Do you mean {near[0]}?" if near else "")
        super().__init__(f"{words} Choose one of those there are, or make it on the Data page.")
        self.nearest = near


class Market(NamedTuple):
    """A market that is open: its name, settings, store, and what holds its newest version."""

    name: str
    settings: MarketSettings
    engine: Engine
    holder: MarketHolder


class Markets:
    """The markets of a server. `columns` is the folder that keeps the arrays of each, in a folder of its name."""

    def __init__(self, databases: Databases, columns: Path | None) -> None:
        self.databases, self._columns = databases, columns
        self._open: dict[str, Market] = {}
        self._used: dict[str, float] = {}
        self._names: list[str] = []
        self._looked = -1e9
        if columns is not None and columns.is_dir():
            # Of a version that knew one market.
            forget_others(columns / DEMO)
        self._looking = threading.Lock()
        # One is held for a moment, the other while a market is opened: those that are open wait for no other.
        self._lock, self._opening = threading.Lock(), threading.Lock()

    def names(self) -> list[str]:
        """Names of the markets there are, the demo's first; as looked at within the last seconds, and as they were while the
        database is away. Raises DatabaseAway when it never answered."""
        if not self._names:
            self._look()
        elif time.monotonic() - self._looked >= _LOOK_SECONDS and self._looking.acquire(blocking=False):
            # Beside the request: a database that does not answer makes nobody wait.
            threading.Thread(target=self._look_beside, name="markets", daemon=True).start()
        return self._names

    def require(self, name: str) -> None:
        """Raises NoSuchMarket when there is no market of a name, which may have been made this very moment by another process."""
        if name not in self.names():
            self._look()
            if name not in self._names:
                raise NoSuchMarket(name, self._names)

    def open(self, name: str) -> Market:
        """A market, opened when it is not. Raises NoSuchMarket and DatabaseAway."""
        try:
            self.require(name)
        except NoSuchMarket:
            self._forget(name)
            raise
        now = time.monotonic()
        with self._lock:
            self._used[name] = now
            unused = [other for other, used in self._used.items() if now - used >= _UNUSED_SECONDS]
            found = self._open.get(name)
        for other in unused:
            self._forget(other)
        return self._of(name) if found is None else found

    @contextlib.contextmanager
    def look(self, name: str) -> Iterator[Market]:
        """A market for who wants to know what it has, and reads no version of it: one that is not open stays so. Raises
        NoSuchMarket and DatabaseAway."""
        self.require(name)
        try:
            with self._looked_at(name) as market:
                yield market
        except DBAPIError:
            # Another process may have removed it this very moment.
            self._look()
            self.require(name)
            raise

    @contextlib.contextmanager
    def _looked_at(self, name: str) -> Iterator[Market]:
        with self._lock:
            found = self._open.get(name)
        if found is not None:
            yield found
            return
        looked_at = self._opened(name)
        try:
            yield looked_at
        finally:
            looked_at.engine.dispose()

    def make(self, name: str, settings: MarketSettings) -> None:
        """An empty market. Raises NoMarketName, MarketTaken and TooManyMarkets."""
        make_market(self.databases, name, settings)
        self._look()

    def remove(self, name: str) -> bool:
        """Remove a market for good, and its arrays; False when there is none."""
        there = self.databases.remove_market(name)
        self._look()
        self._forget(name)
        if self._columns is not None:
            shutil.rmtree(self._columns / name, ignore_errors=True)
        return there

    def _look(self) -> None:
        self._names = self.databases.markets()
        self._looked = time.monotonic()

    def _look_beside(self) -> None:
        try:
            with contextlib.suppress(DatabaseAway):
                self._look()
        finally:
            self._looked = time.monotonic()
            self._looking.release()

    def _of(self, name: str) -> Market:
        with self._opening:
            with self._lock:
                found = self._open.get(name)
            if found is None:
                found = self._opened(name)
                with self._lock:
                    self._open[name] = found
            return found

    def _opened(self, name: str) -> Market:
        engine = make_engine(self.databases.market_url(name), patient=False)
        migrate_market(engine)
        place = None if self._columns is None else self._columns / name
        return Market(name, read_settings(engine), engine, MarketHolder(engine, place))

    def _forget(self, name: str) -> None:
        """Let go of one: requests that hold a version of it keep that to their end."""
        with self._lock:
            self._used.pop(name, None)
            gone = self._open.pop(name, None)
        if gone is not None:
            gone.engine.dispose()


def make_market(databases: Databases, name: str, settings: MarketSettings) -> None:
    """An empty market: its database, its tables and its settings; nothing of it stays when that fails."""
    databases.make_market(name)
    try:
        engine = make_engine(databases.market_url(name))
        migrate_market(engine, settings)
        engine.dispose()
    except BaseException:
        databases.remove_market(name)
        raise
