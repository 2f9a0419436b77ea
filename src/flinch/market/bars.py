"""Bars of five minutes and longer, made of the minute bars of regular hours."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Engine

from flinch.core.arrays import find
from flinch.core.calendar import Hours
from flinch.core.interrupt import in_threads
from flinch.store.market.minutes import read_minutes
from flinch.store.reading import Floats, dates, numbers

LENGTHS = (5, 15, 60)
_FIELDS = ("open", "high", "low", "close", "volume")
_AT_ONCE = 64
DAYS = 10
"""Sessions whose minutes are used: the newest ones of who asks, so that those of a past session stay what they are."""


@dataclass(frozen=True)
class Bars:
    """Bars of one length, names x bars, NaN where nothing traded; `session` gives the index of each bar's session."""

    open: Floats
    high: Floats
    low: Floats
    close: Floats
    volume: Floats
    session: NDArray[np.int64]

    def followed_by(self, later: Bars, session: int) -> Bars:
        """With those of one more session, whose index is given."""
        values = {field: np.concatenate([getattr(self, field), getattr(later, field)], axis=1) for field in _FIELDS}
        return Bars(**values, session=np.append(self.session, np.full(later.session.size, session)))


def packed_bars(bars: dict[int, Bars]) -> dict[str, NDArray[Any]]:
    """Bars by length as arrays alone."""
    return {f"{length}-{key}": values for length, told in bars.items() for key, values in vars(told).items()}


def unpacked_bars(arrays: dict[str, NDArray[Any]], lengths: tuple[int, ...]) -> dict[int, Bars]:
    """The other way round."""
    return {length: Bars(**{key: arrays[f"{length}-{key}"] for key in (*_FIELDS, "session")}) for length in lengths}


def load_bars(
    engine: Engine,
    ids: NDArray[np.int64],
    sessions: NDArray[np.datetime64],
    hours: Hours,
    lengths: tuple[int, ...] = LENGTHS,
    most: int = DAYS,
    *,
    whole: bool = False,
) -> dict[int, Bars]:
    """Bars of some minutes of those of the newest sessions that have minute bars; an hour that the close cuts short is a bar too.

    Bars that lie ahead of the newest minute are left out, unless all sessions are `whole`.
    """
    days = sessions[-most:]
    width = np.array([hours.minutes(day) for day in days.astype(object)], dtype=np.int64)
    # Some names after the other, so that millions of minutes are never held at once.
    groups = np.array_split(ids, max(1, ids.size // _AT_ONCE))
    parts = in_threads(lambda group: _part(engine, group, days, hours, lengths), groups, 2)
    known = np.any([part.traded for part in parts], axis=0)
    present = known.any(axis=1)
    last = int(np.flatnonzero(known[present][-1]).max(initial=-1)) if present.any() else -1
    session = np.searchsorted(sessions, days[present])
    out = {}
    for length in lengths:
        count = -(-int(width.max()) // length)
        place = np.tile(np.arange(count), session.size)
        kept = place * length < np.repeat(width[present], count)
        if not whole:
            kept[kept.size - (count - 1 - max(last, 0) // length) :] = False
        values = {
            field: np.concatenate([part.bars[length][field][:, present] for part in parts]).reshape(ids.size, -1)[
                :, kept
            ]
            for field in _FIELDS
        }
        out[length] = Bars(**values, session=np.repeat(session, count)[kept])
    return out


def load_day_bars(engine: Engine, name_id: int, session: np.datetime64, hours: Hours) -> dict[int, Bars]:
    """The same of one name in one session: one row, read when it is asked for."""
    return load_bars(engine, np.array([name_id]), np.array([session], dtype="datetime64[D]"), hours)


def load_day_minutes(engine: Engine, name_id: int, session: dt.date) -> tuple[NDArray[np.datetime64], Floats]:
    """The minutes of a name's session that traded, regular hours or not: when each began (UTC), and its last price."""
    rows = read_minutes(engine, (name_id, name_id), (session, session))
    return rows["at"].to_numpy(), numbers(rows["close"])


class _Part(NamedTuple):
    """Bars of some names by length and field, names x sessions x bars, and the minutes of each session in which any traded."""

    bars: dict[int, dict[str, Floats]]
    traded: NDArray[np.bool_]


def _part(
    engine: Engine, ids: NDArray[np.int64], days: NDArray[np.datetime64], hours: Hours, lengths: tuple[int, ...]
) -> _Part:
    first, last = days[0].astype(object), days[-1].astype(object)
    rows = read_minutes(engine, (int(ids[0]), int(ids[-1])), (first, last))
    day = dates(rows["session"])
    place, row = find(days, day), find(ids, rows["name_id"].to_numpy())
    opens = opens_at(days, hours)
    width = np.array([hours.minutes(day) for day in days.astype(object)], dtype=np.int64)
    minute = (rows["at"].to_numpy().astype("datetime64[m]") - opens[place]).astype(np.int64)
    wanted = np.flatnonzero((place >= 0) & (row >= 0) & (minute >= 0) & (minute < width[place]))
    where = (row[wanted], place[wanted], minute[wanted])
    minutes = []
    for field in _FIELDS:
        dense = np.full((ids.size, days.size, int(width.max())), np.nan)
        dense[where] = numbers(rows[field])[wanted]
        minutes.append(dense)
    return _Part({length: _joined(minutes, length) for length in lengths}, np.isfinite(minutes[3]).any(axis=0))


def opens_at(days: NDArray[np.datetime64], hours: Hours) -> NDArray[np.datetime64]:
    """When sessions open, in UTC."""
    opens = [hours.opens(day).astimezone(dt.UTC).replace(tzinfo=None) for day in days.astype(object)]
    return np.array(opens, dtype="datetime64[m]")


def _joined(minutes: list[Floats], length: int) -> dict[str, Floats]:
    names, days, width = minutes[0].shape
    count = -(-width // length)
    padded = [np.pad(a, ((0, 0), (0, 0), (0, count * length - width)), constant_values=np.nan) for a in minutes]
    opened, high, low, close, volume = (a.reshape(names, days, count, length) for a in padded)
    known = np.isfinite(close)
    some = known.any(axis=3)
    first = np.take_along_axis(opened, known.argmax(axis=3)[..., None], axis=3)[..., 0]
    final = np.take_along_axis(close, (length - 1 - known[..., ::-1].argmax(axis=3))[..., None], axis=3)[..., 0]
    shares = np.isfinite(volume).any(axis=3)
    return {
        "open": np.where(some, first, np.nan),
        "high": np.where(some, np.where(known, high, -np.inf).max(axis=3), np.nan),
        "low": np.where(some, np.where(known, low, np.inf).min(axis=3), np.nan),
        "close": np.where(some, final, np.nan),
        "volume": np.where(shares, np.nansum(volume, axis=3), np.nan),
    }
