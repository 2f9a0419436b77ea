"""The market in memory: one version of the frame with its catalogue, swapped in whole when a new one is published."""

from __future__ import annotations

import datetime as dt
import threading
import time
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray
from rapidfuzz import fuzz, process, utils
from sqlalchemy import Engine

from flinch.core.rules import Column, MetricInputs, compute_columns
from flinch.store.engine import DatabaseAway
from flinch.store.frame import Expiry, MarketFrame, Report, load_frame
from flinch.store.market_state import read_state

EXCHANGE_ZONE = ZoneInfo("America/New_York")
_CHECK_SECONDS = 2.0


class MarketNotReady(Exception):
    """No complete market has been loaded yet."""


class UnknownName(Exception):
    """No such symbol; `nearest` are the listed ones most like it."""

    def __init__(self, symbol: str, nearest: list[str]) -> None:
        super().__init__(symbol)
        self.symbol = symbol
        self.nearest = nearest


class Market:
    """One published version. Nothing in it changes."""

    def __init__(self, frame: MarketFrame) -> None:
        self.frame = frame
        self.as_of = frame.state.as_of.astimezone(EXCHANGE_ZONE)
        self.today = dt.date.fromisoformat(str(frame.sessions[-1]))
        self.columns: dict[str, Column] = compute_columns(self._inputs())

    def row(self, symbol: str) -> int:
        """Row of a symbol, in any case; raises UnknownName with the nearest listed ones."""
        wanted = symbol.strip().upper()
        found = self.frame.index.get(wanted)
        if found is None:
            raise UnknownName(symbol, self.nearest_symbols(symbol))
        return found

    def nearest_symbols(self, text: str, count: int = 3) -> list[str]:
        """Listed symbols most like `text`, by symbol or company; none when nothing is alike."""
        symbols = list(self.frame.index)
        if not text.strip():
            return []
        by_symbol = process.extract(text[:40].upper(), symbols, scorer=fuzz.ratio, limit=count, score_cutoff=55)
        companies = [name.company for name in self.frame.names]
        by_company = process.extract(
            text[:40], companies, scorer=fuzz.WRatio, processor=utils.default_process, limit=count, score_cutoff=75
        )
        found = [(score, symbol) for symbol, score, _ in by_symbol] + [
            (score, symbols[row]) for _, score, row in by_company
        ]
        return list(dict.fromkeys(symbol for _, symbol in sorted(found, key=lambda pair: -pair[0])))[:count]

    def next_report(self, row: int) -> Report | None:
        """The first report that the price has not reacted to: later than today, or today after the close."""
        for report in self.frame.reports.get(row, []):
            if report.session > self.today or (report.session == self.today and report.timing == "after_close"):
                return report
        return None

    def readable_expiries(self, row: int) -> list[Expiry]:
        """Listed expirations whose volatility could be read, nearest first."""
        return [expiry for expiry in self.frame.expiries.get(row, []) if np.isfinite(expiry.vol)]

    def universe(self, kind: str) -> NDArray[np.bool_]:
        """Who takes part: every optionable name, only stocks or only funds."""
        optionable = np.zeros(len(self.frame.names), dtype=bool)
        optionable[list(self.frame.expiries)] = True
        return optionable if kind == "all" else optionable & (self.frame.kind == kind)

    def _inputs(self) -> MetricInputs:
        frame = self.frame
        nearest = np.full(len(frame.names), np.nan)
        days = np.full(len(frame.names), np.nan)
        for row in range(len(frame.names)):
            if expiries := self.readable_expiries(row):
                nearest[row] = expiries[0].vol
            if report := self.next_report(row):
                days[row] = (report.session - self.today).days
        return MetricInputs(
            frame.kind,
            frame.shares_outstanding,
            frame.open,
            frame.high,
            frame.low,
            frame.close,
            frame.volume,
            frame.option_volume,
            frame.implied[30],
            nearest,
            days,
            frame.quoted,
        )


class MarketHolder:
    """Keeps the newest version. A request takes it once and sees that version to its end."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._market: Market | None = None
        self._lock = threading.Lock()
        self._checked = -1e9

    def current(self) -> Market:
        """The newest published market; while the database is away, the one held already.

        Raises MarketNotReady before the first load, DatabaseAway when there is neither database nor market.
        """
        market = self._market
        if market is not None and time.monotonic() - self._checked < _CHECK_SECONDS:
            return market
        if market is not None and not self._lock.acquire(blocking=False):
            return market  # another request is already looking for a newer version
        if market is None:
            self._lock.acquire()
        try:
            self._refresh()
        except DatabaseAway:
            if self._market is None:
                raise
        finally:
            self._checked = time.monotonic()
            self._lock.release()
        if self._market is None:
            raise MarketNotReady
        return self._market

    def _refresh(self) -> None:
        state = read_state(self._engine)
        if state is None or not state.complete:
            return
        if self._market is None or self._market.frame.state.data_version != state.data_version:
            frame = load_frame(self._engine)
            if frame is not None:
                self._market = Market(frame)
