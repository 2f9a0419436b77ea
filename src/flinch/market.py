"""The market in memory: one version of the frame with its catalogue, swapped in whole when a new one is published."""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Literal
from zoneinfo import ZoneInfo

import numpy as np
from rapidfuzz import fuzz, process, utils
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.pricing import Exercise, exercised_early
from flinch.core.rules import (
    METRICS,
    Expression,
    Node,
    Panel,
    Truth,
    Vocabulary,
    daily_vocabulary,
    evaluate,
    explain,
    intraday_vocabulary,
)
from flinch.core.rules.catalogue import BAR_KEYS
from flinch.core.rules.evaluate import TextArray, Value
from flinch.derived import bands, derive
from flinch.store.bars import Bars, load_bars
from flinch.store.engine import DatabaseAway
from flinch.store.facts import Report
from flinch.store.frame import Expiry, MarketFrame, load_frame
from flinch.store.market_state import read_state

EXCHANGE_ZONE = ZoneInfo("America/New_York")
_CHECK_SECONDS = 2.0
_KEPT_COLUMNS = 2_000

BarLength = Literal["day", "60", "15", "5"]


class MarketNotReady(Exception):
    """No complete market has been loaded yet."""


class UnknownName(Exception):
    """No such symbol; `nearest` are the listed ones most like it."""

    def __init__(self, symbol: str, nearest: list[str]) -> None:
        super().__init__(symbol)
        self.symbol = symbol
        self.nearest = nearest


@dataclass(frozen=True)
class Column:
    """One expression for every name at one session, shape (names,).

    `values` are in the expression's unit; a condition is 1 or 0. NaN, or "" in `texts`, where there is no value.
    """

    values: FloatArray
    truth: Truth | None = None
    texts: TextArray | None = None


class Market:
    """One published version. Nothing in it changes; what is computed from it is kept while there is room."""

    def __init__(self, frame: MarketFrame, read_bars: Callable[[], Mapping[int, Bars]] | None = None) -> None:
        self.frame = frame
        self.as_of = frame.state.as_of.astimezone(EXCHANGE_ZONE)
        self.today = dt.date.fromisoformat(str(frame.sessions[-1]))
        self.newest = frame.sessions.size - 1
        self.bands = bands(frame)
        self.panel = _daily_panel(frame, derive(frame, self.bands))
        self.why = {m.key: dict(m.missing) for m in METRICS.values() if m.read}
        self._read_bars = read_bars
        self._bars: Mapping[int, Bars] | None = None
        self._bars_lock = threading.Lock()
        self._kept: OrderedDict[tuple[str, str, int], Column] = OrderedDict()
        self._reasons: OrderedDict[tuple[str, int], dict[int, str]] = OrderedDict()
        self._lock = threading.Lock()

    # -- names ---------------------------------------------------------------------------------------------------------

    def row(self, symbol: str) -> int:
        """Row of a symbol, in any case; raises UnknownName with the nearest listed ones."""
        found = self.frame.index.get(symbol.strip().upper())
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
            ahead = report.session > self.today or (report.session == self.today and report.timing == "after_close")
            if ahead and report.known_on <= self.today:
                return report
        return None

    def exercise(self, row: int) -> Exercise:
        """How a name's options may be exercised."""
        return "american" if exercised_early(self.frame.kind[row]) else "european"

    def readable_expiries(self, row: int) -> list[Expiry]:
        """Listed expirations whose volatility could be read, nearest first."""
        return [expiry for expiry in self.frame.expiries.get(row, []) if np.isfinite(expiry.vol)]

    def optionable(self, session: int) -> BoolArray:
        """Names with listed options that were listed themselves at a session, shape (names,)."""
        return self.optionable_through[:, session]

    @cached_property
    def optionable_through(self) -> BoolArray:
        """The same for every session, names x sessions."""
        ever = np.asarray(np.isfinite(self.frame.daily["expirations"]).any(axis=1))
        listed = self.frame.listed_from[:, None] <= np.arange(self.frame.sessions.size)
        found: BoolArray = ever[:, None] & listed
        return found

    # -- time ----------------------------------------------------------------------------------------------------------

    def date(self, session: int) -> dt.date:
        """The date of a session's index."""
        return dt.date.fromisoformat(str(self.frame.sessions[session]))

    def session_on(self, day: dt.date) -> int:
        """Index of the last session on or before `day`; the first one for an earlier day."""
        place = int(np.searchsorted(self.frame.sessions, np.datetime64(day, "D"), side="right")) - 1
        return max(place, 0)

    # -- values --------------------------------------------------------------------------------------------------------

    def column(self, node: Node, session: int, bars: BarLength = "day") -> Column:
        """An expression for every name as of a session."""
        key = (node.key, bars, session)
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        found = self._column(node, session, bars)
        with self._lock:
            self._kept[key] = found
            while len(self._kept) > _KEPT_COLUMNS:
                self._kept.popitem(last=False)
        return found

    def history(self, node: Node, row: int) -> FloatArray:
        """A number, or a condition as 1 and 0, of one name in every session."""
        value = evaluate([node], self.panel.only(np.array([row])), 0, self.panel.sessions)[0]
        found: FloatArray = _numbers(value)[0]
        return found

    def reasons(self, node: Node, session: int) -> dict[int, str]:
        """Why names have no value of an expression on daily bars, by row."""
        key = (node.key, session)
        with self._lock:
            if key in self._reasons:
                return self._reasons[key]
        column = self.column(node, session)
        missing = column.texts == "" if column.texts is not None else np.isnan(column.values)
        found = explain(node, self.panel, session, np.flatnonzero(missing), self.frame.listed_from, self.why)
        with self._lock:
            self._reasons[key] = found
            while len(self._reasons) > _KEPT_COLUMNS:
                self._reasons.popitem(last=False)
        return found

    def metric(self, key: str, session: int | None = None) -> FloatArray:
        """A metric of the catalogue for every name, at the newest session unless another is given."""
        return self.column(daily_vocabulary().read(key).node, self.newest if session is None else session).values

    def reason(self, key: str, row: int) -> str | None:
        """Why a name has no value of a metric at the newest session; None when it has one."""
        return self.reasons(daily_vocabulary().read(key).node, self.newest).get(row)

    def _column(self, node: Node, session: int, bars: BarLength) -> Column:
        panel, place = self.panel, session
        if bars != "day":
            held = self.bars(int(bars))
            upto = np.flatnonzero(held.session == session)
            if not upto.size:
                nothing = np.zeros(panel.names, dtype=bool)
                return Column(np.full(panel.names, np.nan), Truth(nothing, nothing.copy()))
            panel, place = self._intraday_panel(held), int(upto[-1])
        value = evaluate([node], panel, place, place + 1)[0]
        if isinstance(value, Truth):
            truth = Truth(value.yes[:, 0].copy(), value.no[:, 0].copy())
            return Column(_numbers(truth), truth)
        if node.kind == "text":
            texts = np.asarray(value, dtype=np.str_)
            return Column(np.full(texts.shape, np.nan), None, texts)
        return Column(np.asarray(value, dtype=np.float64)[:, 0].copy())

    # -- shorter bars --------------------------------------------------------------------------------------------------

    def bars(self, minutes: int) -> Bars:
        """Bars of 5, 15 or 60 minutes, read from the store when first asked for."""
        with self._bars_lock:
            if self._bars is None:
                self._bars = self._read_bars() if self._read_bars else {}
            return self._bars[minutes]

    def _intraday_panel(self, bars: Bars) -> Panel:
        series = {key: getattr(bars, key) for key in BAR_KEYS}
        return Panel(self.panel.names, bars.close.shape[1], series, self.panel.texts)


@dataclass(frozen=True)
class Dictionary:
    """The names that a user's texts may use: the catalogue's and their own metrics."""

    daily: Vocabulary
    intraday: Vocabulary

    def read(self, text: str, bars: BarLength = "day") -> Expression:
        """Read a text for bars of a length; raises RuleError."""
        return (self.daily if bars == "day" else self.intraday).read(text)


PLAIN = Dictionary(daily_vocabulary(), intraday_vocabulary())
"""The catalogue alone."""


def _numbers(value: Value) -> FloatArray:
    if isinstance(value, Truth):
        return np.where(value.yes, 1.0, np.where(value.no, 0.0, np.nan))
    return np.asarray(value, dtype=np.float64)


def _daily_panel(frame: MarketFrame, derived: dict[str, FloatArray]) -> Panel:
    """The catalogue's series, and what a name is."""
    number = frame.sessions.astype(np.int64)
    listed = np.array([name.listed_on for name in frame.names], dtype="datetime64[D]").astype(np.int64)
    age = (number[None, :] - listed[:, None]).astype(np.float64)
    index = np.flatnonzero(frame.kind == "index")
    fields: dict[str, FloatArray] = {
        **{key: getattr(frame, key) for key in BAR_KEYS},
        **{f"iv{days}": vols for days, vols in frame.implied.items()},
        **frame.daily,
        **derived,
        "shares_outstanding": frame.shares_outstanding[:, None],
        "float_shares": frame.float_shares[:, None],
        "days_listed": np.where(age >= 0, age, np.nan),
        "index_close": frame.close[index[:1]] if index.size else np.full((1, frame.sessions.size), np.nan),
    }
    series = {m.key: fields[m.field] for m in METRICS.values() if m.read and m.kind == "number"}
    texts = {
        "symbol": np.array([name.symbol for name in frame.names]),
        "sector": np.array([name.sector for name in frame.names]),
        "kind": frame.kind,
    }
    factors = {key: METRICS[key].factor for key in series if METRICS[key].factor != 1}
    return Panel(len(frame.names), frame.sessions.size, series, texts, factors)


class MarketHolder:
    """Keeps the newest version. A request takes it once and sees that version to its end."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._market: Market | None = None
        self._lock = threading.Lock()
        self._checked = -1e9

    def current(self) -> Market:
        """The market; a newer version is looked for beside the requests, which are answered from the one held until it is whole.

        Raises MarketNotReady before the first load, DatabaseAway when there is neither database nor market.
        """
        market = self._market
        if market is None:
            with self._lock:
                self._refresh()
            if self._market is None:
                raise MarketNotReady
            return self._market
        if time.monotonic() - self._checked >= _CHECK_SECONDS and self._lock.acquire(blocking=False):
            threading.Thread(target=self._look, name="newer market", daemon=True).start()
        return market

    def _look(self) -> None:
        try:
            self._refresh()
        except DatabaseAway:
            pass  # the version held is served until the database is back
        finally:
            self._checked = time.monotonic()
            self._lock.release()

    def _refresh(self) -> None:
        state = read_state(self._engine)
        if state is None or not state.complete:
            return
        if self._market is None or self._market.frame.state.data_version != state.data_version:
            frame = load_frame(self._engine)
            if frame is not None:
                self._market = make_market(self._engine, frame)
            self._checked = time.monotonic()


def make_market(engine: Engine, frame: MarketFrame) -> Market:
    """A version of the market that reads its shorter bars from the store when they are asked for."""
    return Market(frame, lambda: load_bars(engine, frame.ids, frame.sessions))


def warm(market: Market, progress: Callable[[float], None]) -> None:
    """Compute every metric of the catalogue at the newest session; `progress` gets the share that is done."""
    for done, key in enumerate(METRICS):
        progress(done / len(METRICS))
        market.column(PLAIN.read(key).node, market.newest)
    progress(1.0)
