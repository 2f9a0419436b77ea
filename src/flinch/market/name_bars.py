"""One name's bars of any length in order of time, with the hours before the open and after the close when they are wanted."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.rules import Panel
from flinch.core.rules.catalogue import BAR_KEYS
from flinch.market.bars import DAYS, load_bars, opens_at
from flinch.market.view import View
from flinch.store.market.minutes import read_minutes
from flinch.store.reading import dates, numbers

Length = Literal["day", "60", "15", "5", "1"]


@dataclass(frozen=True)
class NameBars:
    """Bars of one name, oldest first, shape (bars,): prices and shares, NaN where nothing traded, the session of each (an index
    of the frame), and minutes from the session's open to where it begins and ends (of a day, `daily`, those of
    the whole session); `closes` is how many minutes its session has, `panel` what expressions are evaluated on."""

    open: FloatArray
    high: FloatArray
    low: FloatArray
    close: FloatArray
    volume: FloatArray
    session: IntArray
    begins: IntArray
    ends: IntArray
    closes: IntArray
    daily: bool
    panel: Panel

    @property
    def regular(self) -> BoolArray:
        """Those between the open and the close."""
        inside: BoolArray = (self.begins >= 0) & (self.begins < self.closes)
        return inside


def name_bars(view: View, row: int, length: Length, *, extended: bool = False) -> NameBars:
    """A name's bars up to a view's session, as rules on bars of that length have them.

    Of minutes the newest sessions are kept. With the hours outside the session there are bars only where something traded.
    """
    if length == "day":
        size, frame = view.end, view.frame
        columns = {key: getattr(frame, key)[row] for key in BAR_KEYS}
        whole, closes = np.zeros(size, np.int64), _closes(view)[:size]
        return NameBars(
            **columns, session=np.arange(size), begins=whole, ends=closes, closes=closes, daily=True,
            panel=view.panel.only(np.array([row])),
        )  # fmt: skip
    minutes = int(length)
    columns, session, begins = (_traded if extended else _regular)(view, row, minutes)
    held = session <= view.last
    columns = {key: column[held] for key, column in columns.items()}
    session, begins = session[held], begins[held]
    series = {key: column[None, :] for key, column in columns.items()}
    texts = {key: values[row : row + 1] for key, values in view.panel.texts.items()}
    panel = Panel(1, session.size, series, texts)
    ends = begins + minutes
    # The bar that the close cuts short.
    closes = _closes(view)[session]
    ends = np.where(begins < closes, np.minimum(ends, closes), ends)
    return NameBars(**columns, session=session, begins=begins, ends=ends, closes=closes, daily=False, panel=panel)


def _closes(view: View) -> IntArray:
    """Minutes of each session of the frame."""
    return np.array([view.hours.minutes(day) for day in view.version.frame.sessions.astype(object)], dtype=np.int64)


Columns = dict[str, FloatArray]


def _regular(view: View, row: int, minutes: int) -> tuple[Columns, IntArray, IntArray]:
    frame = view.version.frame
    sessions = frame.sessions[: view.end]
    bars = load_bars(view.store, frame.ids[row : row + 1], sessions, view.hours, (minutes,))[minutes]
    place = np.arange(bars.session.size) - np.searchsorted(bars.session, bars.session)
    return {key: getattr(bars, key)[0] for key in BAR_KEYS}, bars.session, place * minutes


def _traded(view: View, row: int, minutes: int) -> tuple[Columns, IntArray, IntArray]:
    sessions: NDArray[np.datetime64] = view.version.frame.sessions[: view.end]
    days = sessions[-DAYS:]
    wanted = (days[0].astype(object), days[-1].astype(object))
    rows = read_minutes(view.store, (view.id(row), view.id(row)), wanted).sort("at")
    session = np.searchsorted(sessions, dates(rows["session"]))
    opens = opens_at(days, view.hours)
    minute = (rows["at"].to_numpy().astype("datetime64[m]") - opens[session - (sessions.size - days.size)]).astype(
        np.int64
    )
    # The close ends a bar, and the hours after it begin with one.
    closes = _closes(view)[session]
    begin = np.where(minute < closes, minute // minutes * minutes, closes + (minute - closes) // minutes * minutes)
    first = np.flatnonzero(np.diff(session, prepend=-1) | np.diff(begin, prepend=np.iinfo(np.int64).min // 2))
    if not first.size:
        return dict.fromkeys(BAR_KEYS, np.empty(0)), np.empty(0, np.int64), np.empty(0, np.int64)
    opened, high, low, close, volume = (numbers(rows[key]) for key in BAR_KEYS)
    last = np.append(first[1:], session.size) - 1
    counted = np.add.reduceat(np.isfinite(volume).astype(np.int64), first) > 0
    shares = np.where(counted, np.add.reduceat(np.nan_to_num(volume), first), np.nan)
    columns = (opened[first], np.maximum.reduceat(high, first), np.minimum.reduceat(low, first), close[last], shares)
    return dict(zip(BAR_KEYS, columns, strict=True)), session[first], begin[first]
