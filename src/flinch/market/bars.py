"""Bars of five minutes and longer, made of the minute bars of regular hours."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, select

from flinch.core.calendar import EXCHANGE_ZONE
from flinch.store.market.models import MinuteBar
from flinch.store.reading import Floats, dates, numbers, read_rows, read_table

LENGTHS = (5, 15, 60)
_MINUTES = 390
_OPEN = 570  # minutes from midnight
_FIELDS = ("open", "high", "low", "close", "volume")
_DAYS = 10
"""Newest sessions whose minutes are used."""


@dataclass(frozen=True)
class Bars:
    """Bars of one length, names x bars, NaN where nothing traded; `session` gives the index of each bar's session."""

    open: Floats
    high: Floats
    low: Floats
    close: Floats
    volume: Floats
    session: NDArray[np.int64]


def load_bars(engine: Engine, ids: NDArray[np.int64], sessions: NDArray[np.datetime64]) -> dict[int, Bars]:
    """Bars of 5, 15 and 60 minutes of the sessions that have minute bars; an hour that the close cuts short is a bar too.

    Bars that lie ahead of the newest minute are left out.
    """
    days = sessions[-_DAYS:]
    minutes = [np.full((ids.size, days.size, _MINUTES), np.nan) for _ in _FIELDS]
    # Some names after the other, so that two million rows are never held at once.
    for part in np.array_split(ids, max(1, ids.size // 64)):
        rows = _read(engine, int(part[0]), int(part[-1]), days[0])
        day = dates(rows["day"])
        place = np.minimum(np.searchsorted(days, day), days.size - 1)
        held = days[place] == day
        where = (np.searchsorted(ids, rows["name_id"].to_numpy())[held], place[held], rows["minute"].to_numpy()[held])
        for dense, field in zip(minutes, _FIELDS, strict=True):
            dense[where] = numbers(rows[field])[held]
    present = np.isfinite(minutes[3]).any(axis=(0, 2))
    days, minutes = days[present], [dense[:, present] for dense in minutes]
    known = np.isfinite(minutes[3]).any(axis=0)
    last = int(np.flatnonzero(known[-1]).max(initial=-1)) if days.size else -1
    session = np.searchsorted(sessions, days)
    return {length: _joined(minutes, length, last, session) for length in LENGTHS}


def load_day_bars(engine: Engine, name_id: int, session: np.datetime64) -> dict[int, Bars]:
    """The same of one name in one session: a few hundred rows, read when they are asked for."""
    return load_bars(engine, np.array([name_id]), np.array([session], dtype="datetime64[D]"))


def _read(engine: Engine, first: int, last: int, since: np.datetime64) -> pl.DataFrame:
    """Minutes of regular hours of the names from `first` to `last` from a day on, with their day and minute in exchange time."""
    b = MinuteBar
    wanted = (b.name_id.between(first, last), b.at >= dt.datetime.combine(since.astype(object), dt.time()))
    read = read_rows if first == last else read_table
    rows = read(engine, select(b.name_id, b.at, *[getattr(b, field) for field in _FIELDS]).where(*wanted))
    local = pl.col("at").cast(pl.Datetime("ms")).dt.replace_time_zone("UTC").dt.convert_time_zone(EXCHANGE_ZONE.key)
    return rows.with_columns(
        local.dt.date().alias("day"),
        (local.dt.hour().cast(pl.Int32) * 60 + local.dt.minute() - _OPEN).alias("minute"),
    ).filter(pl.col("minute").is_between(0, _MINUTES - 1))


def _joined(minutes: list[Floats], length: int, last: int, session: NDArray[np.int64]) -> Bars:
    names, days, _ = minutes[0].shape
    count = -(-_MINUTES // length)
    padded = [np.pad(a, ((0, 0), (0, 0), (0, count * length - _MINUTES)), constant_values=np.nan) for a in minutes]
    parts = [a.reshape(names, days * count, length) for a in padded]
    kept = days * count - (count - 1 - max(last, 0) // length)
    opened, high, low, close, volume = (a[:, :kept] for a in parts)
    known = np.isfinite(close)
    some = known.any(axis=2)
    first = np.take_along_axis(opened, known.argmax(axis=2)[..., None], axis=2)[..., 0]
    final = np.take_along_axis(close, (length - 1 - known[..., ::-1].argmax(axis=2))[..., None], axis=2)[..., 0]
    shares = np.isfinite(volume).any(axis=2)
    return Bars(
        np.where(some, first, np.nan),
        np.where(some, np.where(known, high, -np.inf).max(axis=2), np.nan),
        np.where(some, np.where(known, low, np.inf).min(axis=2), np.nan),
        np.where(some, final, np.nan),
        np.where(shares, np.nansum(volume, axis=2), np.nan),
        np.repeat(session, count)[:kept],
    )
