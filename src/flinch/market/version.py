"""One version of the market in memory: the frame, what follows from it, and the catalogue's columns."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass
from typing import TypeVar, cast

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import FloatArray
from flinch.core.rules import (
    METRICS,
    Categories,
    Node,
    Panel,
    Truth,
    evaluate,
    explain,
)
from flinch.core.rules.catalogue import BAR_KEYS
from flinch.core.rules.evaluate import TextArray, Value
from flinch.market.bars import Bars, load_bars
from flinch.market.dictionary import BarLength
from flinch.market.frame import MarketFrame

_KEPT_COLUMNS = 2_000
Kept = TypeVar("Kept")


@dataclass(frozen=True)
class Column:
    """One expression for every name at one session, shape (names,).

    `values` are in the expression's unit; a condition is 1 or 0. NaN, or "" in `texts`, where there is no value. Of a table
    of many things texts come as `categories`.
    """

    values: FloatArray
    truth: Truth | None = None
    texts: TextArray | None = None
    categories: Categories | None = None


class Version:
    """One published version. Nothing in it changes; what is computed from it is kept while there is room."""

    def __init__(self, frame: MarketFrame, engine: Engine | None = None) -> None:
        self.frame = frame
        self.last = frame.sessions.size - 1
        self.panel = _daily_panel(frame)
        self._engine = engine
        self._why = {m.key: dict(m.missing) for m in METRICS.values() if m.read}
        self._bars: Mapping[int, Bars] | None = None
        self._bars_lock = threading.Lock()
        self._columns: OrderedDict[tuple[str, str, int], Column] = OrderedDict()
        self._reasons: OrderedDict[tuple[str, int], dict[int, str]] = OrderedDict()
        self._lock = threading.Lock()
        self._kept: OrderedDict[tuple[Hashable, ...], object] = OrderedDict()
        self._making: dict[tuple[Hashable, ...], threading.Lock] = {}

    @property
    def engine(self) -> Engine:
        """The store that the version was read from, for what is read when it is asked for."""
        assert self._engine is not None, "this version was made without a store"
        return self._engine

    # -- what is computed once ---------------------------------------------------------------------------------------------

    def keep(self, key: tuple[Hashable, ...], make: Callable[[], Kept], most: int) -> Kept:
        """What was made under a key, or what is made now; of keys that begin alike the newest `most` are kept. Who asks for what
        is being made waits for it."""
        with self._lock:
            lock = self._making.setdefault(key, threading.Lock())
        with lock:
            with self._lock:
                if key in self._kept:
                    self._kept.move_to_end(key)
                    return cast(Kept, self._kept[key])
            made = make()
            with self._lock:
                self._kept[key] = made
                alike = [other for other in self._kept if other[0] == key[0]]
                for other in alike[: max(0, len(alike) - most)]:
                    del self._kept[other]
                self._making = {other: held for other, held in self._making.items() if held.locked()}
            return made

    # -- values --------------------------------------------------------------------------------------------------------

    def column(self, node: Node, session: int, bars: BarLength = "day") -> Column:
        """An expression for every name as of a session."""
        key = (node.key, bars, session)
        with self._lock:
            if key in self._columns:
                self._columns.move_to_end(key)
                return self._columns[key]
        found = self._column(node, session, bars)
        with self._lock:
            self._columns[key] = found
            while len(self._columns) > _KEPT_COLUMNS:
                self._columns.popitem(last=False)
        return found

    def history(self, node: Node, row: int, end: int) -> FloatArray:
        """A number, or a condition as 1 and 0, of one name in every session before `end`."""
        value = evaluate([node], self.panel.only(np.array([row])), 0, end)[0]
        history: FloatArray = _numbers(value)[0]
        return history

    def reasons(self, node: Node, session: int) -> dict[int, str]:
        """Why names have no value of an expression on daily bars, by row."""
        key = (node.key, session)
        with self._lock:
            if key in self._reasons:
                return self._reasons[key]
        column = self.column(node, session)
        missing = column.texts == "" if column.texts is not None else np.isnan(column.values)
        found = explain(node, self.panel, session, np.flatnonzero(missing), self.frame.listed_from, self._why)
        with self._lock:
            self._reasons[key] = found
            while len(self._reasons) > _KEPT_COLUMNS:
                self._reasons.popitem(last=False)
        return found

    def _column(self, node: Node, session: int, bars: BarLength) -> Column:
        panel, place = self.panel, session
        if bars != "day":
            shorter = self.bars(int(bars))
            upto = np.flatnonzero(shorter.session == session)
            if not upto.size:
                nothing = np.zeros(panel.names, dtype=bool)
                return Column(np.full(panel.names, np.nan), Truth(nothing, nothing.copy()))
            panel, place = self._intraday_panel(shorter), int(upto[-1])
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
                self._bars = load_bars(self.engine, self.frame.ids, self.frame.sessions)
            return self._bars[minutes]

    def _intraday_panel(self, bars: Bars) -> Panel:
        series = {key: getattr(bars, key) for key in BAR_KEYS}
        return Panel(self.panel.names, bars.close.shape[1], series, self.panel.texts)


def _numbers(value: Value) -> FloatArray:
    if isinstance(value, Truth):
        return np.where(value.yes, 1.0, np.where(value.no, 0.0, np.nan))
    return np.asarray(value, dtype=np.float64)


def _daily_panel(frame: MarketFrame) -> Panel:
    """The catalogue's series, and what a name is."""
    number = frame.sessions.astype(np.int64)
    listed = np.array([name.listed_on for name in frame.names], dtype="datetime64[D]").astype(np.int64)
    age = (number[None, :] - listed[:, None]).astype(np.float64)
    index = np.flatnonzero(frame.kind == "index")
    fields: dict[str, FloatArray] = {
        **{key: getattr(frame, key) for key in BAR_KEYS},
        **{f"iv{days}": vols for days, vols in frame.implied.items()},
        **frame.daily,
        **frame.derived,
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
