"""One version of the market in memory: the frame, what follows from it, and the catalogue's columns."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator, Mapping
from concurrent.futures import Future, wait
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Literal, TypeVar, cast

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import FloatArray
from flinch.core.interrupt import DeadlineReached, checkpoint
from flinch.core.rules import (
    METRICS,
    Categories,
    Node,
    Panel,
    Truth,
    evaluate,
    explain,
)
from flinch.core.rules.catalogue import BAR_KEYS, PRINTS
from flinch.core.rules.evaluate import TextArray, Value
from flinch.errors import FlinchError
from flinch.market.bars import DAYS, LENGTHS, Bars, load_bars, packed_bars, unpacked_bars
from flinch.market.columns import Arrays, kept_arrays
from flinch.market.dictionary import BarLength
from flinch.market.frame import MarketFrame
from flinch.market.own_lines import SIDES, LineSeries, line_prices

_KEPT_COLUMNS = 2_000
_LASTING = ("calibration", "played", "played minutes")
"""Kinds of what is kept that follows from what is over alone."""
_POLL = 0.05
Kept = TypeVar("Kept")
Lasting = Literal["moment", "before", "past"]


class BeingRead(FlinchError):
    """What all need of a version is being made, and a request may wait no longer for it."""

    status, kind, wait = 503, "being_read", 2

    def __init__(self) -> None:
        super().__init__("This is being read for the first time. Flinch asks again by itself until it is there.")


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


SeriesMaker = Callable[["Version"], Mapping[str, FloatArray]]


class Version:
    """One published version. Nothing in it changes; what is computed from it is kept while there is room."""

    def __init__(
        self, frame: MarketFrame, engine: Engine | None = None, print_series: SeriesMaker | None = None
    ) -> None:
        """`print_series` makes what follows from prints when something first asks for it; without it nothing is known of them."""
        self.frame = frame
        self._make_print_series = print_series
        self.last = frame.sessions.size - 1
        self.panel = _daily_panel(frame, self._print_series, self._own_lines)
        self._engine = engine
        self._why = {m.key: dict(m.missing) for m in METRICS.values() if m.read}
        self._columns: OrderedDict[tuple[str, str, int], Column] = OrderedDict()
        self._reasons: OrderedDict[tuple[str, int], dict[int, str]] = OrderedDict()
        self._lock = threading.Lock()
        self._kept: OrderedDict[tuple[Hashable, ...], object] = OrderedDict()
        self._making: dict[tuple[Hashable, ...], threading.Lock] = {}
        self._coming: dict[tuple[Hashable, ...], Future[object]] = {}
        self.made_at = time.monotonic()
        self._asked: dict[Hashable, float] = {}
        self._unasked = threading.local()

    def go_on_from(self, before: Version) -> None:
        """Take over what a later moment of the same session does not change, and when what was asked for."""
        self._asked = before._asked
        then, now = before.frame.state, self.frame.state
        if (then.load_id, then.past_version) != (now.load_id, now.past_version) or before.last != self.last:
            return
        with before._lock:
            lasting = {key: made for key, made in before._kept.items() if key[0] in _LASTING}
        with self._lock:
            self._kept.update(lasting)

    def has(self, kind: str) -> bool:
        """Whether something under a key that begins so is kept."""
        with self._lock:
            return any(key[0] == kind for key in self._kept)

    def under_way(self, kind: str) -> int:
        """How much is being made under keys that begin so."""
        with self._lock:
            return sum(key[0] == kind for key in self._coming)

    def latest(self, *beginning: Hashable) -> object | None:
        """What was kept last under a key that begins so."""
        with self._lock:
            alike = [made for key, made in self._kept.items() if key[: len(beginning)] == beginning]
        return alike[-1] if alike else None

    def asked(self, kind: str, seconds: float) -> bool:
        """Whether something under a key that begins so was asked for in the last so many seconds, of this version or of those
        before it."""
        return time.monotonic() - self._asked.get(kind, -1e9) < seconds

    @contextmanager
    def nobody_asks(self) -> Iterator[None]:
        """Within it this thread makes things that nobody asked for."""
        self._unasked.now = True
        try:
            yield
        finally:
            self._unasked.now = False

    @property
    def engine(self) -> Engine:
        """The store that the version was read from, for what is read when it is asked for."""
        assert self._engine is not None, "this version was made without a store"
        return self._engine

    # -- what is computed once ---------------------------------------------------------------------------------------------

    def keep(self, key: tuple[Hashable, ...], make: Callable[[], Kept], most: int) -> Kept:
        """What was made under a key, or what is made now, as one request's own work; of keys that begin alike the newest
        `most` are kept. Who asks for what is being made waits for it."""
        with self._lock:
            lock = self._making.setdefault(key, threading.Lock())
        while not lock.acquire(timeout=_POLL):
            checkpoint()
        try:
            with self._lock:
                if key in self._kept:
                    return cast(Kept, self._taken(key))
            made = make()
            with self._lock:
                self._put(key, made, most)
                self._making = {other: held for other, held in self._making.items() if held.locked()}
            return made
        finally:
            lock.release()

    def share(self, key: tuple[Hashable, ...], make: Callable[[], Kept], most: int) -> Kept:
        """As `keep`, for what all requests need: a thread of its own makes it, so that it is there for the next one even if
        whoever asked first gives up.

        Raises BeingRead when that is because a request may take no longer.
        """
        if not getattr(self._unasked, "now", False):
            self._asked[key[0]] = time.monotonic()
        with self._lock:
            if key in self._kept:
                return cast(Kept, self._taken(key))
            coming = self._coming.get(key)
            if coming is None:
                coming = self._coming[key] = Future()
                threading.Thread(target=self._make, args=(key, make, most, coming), daemon=True).start()
        while not coming.done():
            wait([coming], _POLL)
            try:
                checkpoint()
            except DeadlineReached:
                raise BeingRead from None
        return cast(Kept, coming.result())

    def arrays(self, name: str, make: Callable[[], Arrays], *, of: Lasting, beside: str = "") -> Arrays:
        """Large arrays that follow from the version, mapped where there is a place for files. They are `of` one moment, or of the
        sessions before the newest, or of sessions that are over whatever the newest is; and of what else `beside` tells."""
        frame = self.frame
        if of == "past":
            return kept_arrays(frame.place, name, "past" + beside, make)
        version = str(self.last) if of == "before" else str(frame.state.data_version)
        if frame.played:
            # Beside those of the newest version, whose own stay.
            name += "-played"
            version += "" if of == "before" else f"-{frame.state.as_of:%Y%m%dT%H%M}"
        return kept_arrays(frame.place, name, version + beside, make)

    def _make(self, key: tuple[Hashable, ...], make: Callable[[], object], most: int, coming: Future[object]) -> None:
        try:
            made = make()
        except BaseException as error:
            with self._lock:
                del self._coming[key]
            coming.set_exception(error)
        else:
            with self._lock:
                self._put(key, made, most)
                del self._coming[key]
            coming.set_result(made)

    def _taken(self, key: tuple[Hashable, ...]) -> object:
        self._kept.move_to_end(key)
        return self._kept[key]

    def _put(self, key: tuple[Hashable, ...], made: object, most: int) -> None:
        self._kept[key] = made
        alike = [other for other in self._kept if other[0] == key[0]]
        for other in alike[: max(0, len(alike) - most)]:
            del self._kept[other]

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
            shorter = self.bars(int(bars), session)
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

    def bars(self, minutes: int, session: int) -> Bars:
        """Bars of 5, 15 or 60 minutes up to a session, read when first asked for; those up to two sessions are kept."""
        frame, sessions = self.frame, self.frame.sessions[: session + 1]

        def make() -> dict[int, Bars]:
            if session == self.last:
                return self.newest_bars("bars", LENGTHS, DAYS)
            return load_bars(self.engine, frame.ids, sessions, frame.hours)

        return self.share(("bars", session), make, 2)[minutes]

    def newest_bars(self, name: str, lengths: tuple[int, ...], most: int) -> dict[int, Bars]:
        """Bars of all names up to the newest session, read anew; those of the sessions before it are kept as files of a name."""
        frame = self.frame

        def load(sessions: slice, most: int, *, whole: bool = False) -> dict[int, Bars]:
            return load_bars(self.engine, frame.ids, frame.sessions[sessions], frame.hours, lengths, most, whole=whole)

        today = load(slice(self.last, None), 1)
        if not self.last or not today[lengths[0]].session.size:
            return load(slice(None), most)

        def before() -> Arrays:
            return packed_bars(load(slice(self.last), most - 1, whole=True))

        kept = unpacked_bars(self.arrays(f"{name}-before", before, of="before"), lengths)
        return {length: kept[length].followed_by(today[length], self.last) for length in lengths}

    def _print_series(self) -> Mapping[str, FloatArray]:
        make = self._make_print_series
        if make is None:
            nothing = np.full((1, self.frame.sessions.size), np.nan)
            return {key: nothing for key, metric in METRICS.items() if metric.read and metric.group == PRINTS}
        return self.share(
            ("print series",), lambda: self.arrays("print-series", lambda: dict(make(self)), of="moment"), 1
        )

    def _own_lines(self, key: LineSeries) -> FloatArray:
        lines = key.lines
        kept = self.keep(("lines", str(key).partition("@")[2]), lambda: line_prices(self.frame, lines), 4)
        return kept[key.side]

    def _intraday_panel(self, bars: Bars) -> Panel:
        series = {key: getattr(bars, key) for key in BAR_KEYS}
        return Panel(self.panel.names, bars.close.shape[1], series, self.panel.texts)


def _numbers(value: Value) -> FloatArray:
    if isinstance(value, Truth):
        return np.where(value.yes, 1.0, np.where(value.no, 0.0, np.nan))
    return np.asarray(value, dtype=np.float64)


class _Series(Mapping[str, FloatArray]):
    """Series that are there, others that are made together when one of them is first read, and those of somebody's lines."""

    def __init__(
        self,
        there: Mapping[str, FloatArray],
        late: frozenset[str],
        make: Callable[[], Mapping[str, FloatArray]],
        lines: Callable[[LineSeries], FloatArray],
    ) -> None:
        self._there, self._late, self._make, self._lines = there, late, make, lines

    def __getitem__(self, key: str) -> FloatArray:
        if isinstance(key, LineSeries):
            return self._lines(key)
        return self._make()[key] if key in self._late else self._there[key]

    def __iter__(self) -> Iterator[str]:
        yield from self._there
        yield from self._late

    def __len__(self) -> int:
        return len(self._there) + len(self._late)


def _index_row(frame: MarketFrame) -> int | None:
    """The row of what relative strength is measured against; None where there is no index."""
    if frame.index_symbol is not None:
        return frame.index.get(frame.index_symbol)
    found = np.flatnonzero(frame.kind == "index")
    return int(found[0]) if found.size else None


def _daily_panel(
    frame: MarketFrame,
    print_series: Callable[[], Mapping[str, FloatArray]],
    own_lines: Callable[[LineSeries], FloatArray],
) -> Panel:
    """The catalogue's series, and what a name is."""
    number = frame.sessions.astype(np.int64)
    listed = np.array([name.listed_on or "NaT" for name in frame.names], dtype="datetime64[D]")
    since = np.where(np.isnat(listed), np.nan, listed.astype(np.int64))
    age = number[None, :] - since[:, None]
    index = _index_row(frame)
    fields: dict[str, FloatArray] = {
        **{key: getattr(frame, key) for key in BAR_KEYS},
        **{f"iv{days}": vols for days, vols in frame.implied.items()},
        **frame.daily,
        **frame.derived,
        "shares_outstanding": frame.shares_outstanding[:, None],
        "float_shares": frame.float_shares[:, None],
        "days_listed": np.where(age >= 0, age, np.nan),
        # Nobody's: an owner's texts read series of their own.
        **dict.fromkeys(SIDES, np.full((1, 1), np.nan)),
        "index_close": frame.close[index : index + 1]
        if index is not None
        else np.full((1, frame.sessions.size), np.nan),
    }
    read = {m.key: m for m in METRICS.values() if m.read and m.kind == "number"}
    late = frozenset(key for key, metric in read.items() if metric.group == PRINTS)
    there = {key: fields[metric.field] for key, metric in read.items() if key not in late}
    texts = {
        "symbol": np.array([name.symbol for name in frame.names]),
        "sector": np.array([name.sector for name in frame.names]),
        "kind": frame.kind,
    }
    factors = {key: metric.factor for key, metric in read.items() if metric.factor != 1}
    series = _Series(there, late, print_series, own_lines)
    return Panel(len(frame.names), frame.sessions.size, series, texts, factors)
