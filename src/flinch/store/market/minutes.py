"""Minute bars, a name's session in one row."""

from __future__ import annotations

import datetime as dt

import numpy as np
import polars as pl
from sqlalchemy import Engine, select

from flinch.store.engine import known_until, told
from flinch.store.market.models import MinuteDay
from flinch.store.market.splits import read_splits
from flinch.store.packing import pack_groups, packed_prices, unpack_groups, unpacked_prices
from flinch.store.reading import numbers

_PRICES = ("open", "high", "low", "close")
MINUTE = np.dtype(
    [("minute", "<i2"), ("open", "<i8"), ("high", "<i8"), ("low", "<i8"), ("close", "<i8"), ("volume", "<i8")]
)
"""One minute that traded: minutes from the session's midnight in UTC, prices in ten-thousandths, shares (-1: not counted)."""


def minute_rows(bars: pl.DataFrame) -> pl.DataFrame:
    """Rows of `MinuteDay` for bars of whole sessions, in any order: name_id, session, at (UTC, the minute's start), open, high,
    low, close, volume."""
    ordered = bars.sort("session", "name_id", "at")
    records = np.empty(ordered.height, MINUTE)
    day = ordered["session"].cast(pl.Date).to_physical().to_numpy().astype(np.int64)
    at = ordered["at"].to_numpy().astype("datetime64[m]").astype(np.int64)
    records["minute"] = at - 1440 * day
    for field in _PRICES:
        records[field] = packed_prices(numbers(ordered[field]))
    volume = numbers(ordered["volume"])
    records["volume"] = np.where(np.isfinite(volume), np.round(np.nan_to_num(volume)), -1)
    owners, minutes = pack_groups((day << 32) + ordered["name_id"].cast(pl.Int64).to_numpy(), records)
    return pl.DataFrame(
        {
            "session": pl.Series((owners >> 32).astype(np.int32)).cast(pl.Date),
            "name_id": owners & 0xFFFFFFFF,
            "minutes": pl.Series(minutes, dtype=pl.Binary),
        }
    )


def read_minute_sessions(engine: Engine) -> list[dt.date]:
    """Sessions of which minutes are kept, in order."""
    with told(), engine.connect() as connection:
        return list(connection.execute(select(MinuteDay.session).distinct().order_by(MinuteDay.session)).scalars())


def read_minutes(
    engine: Engine, names: tuple[int, int], sessions: tuple[dt.date, dt.date], *, as_told: bool = False
) -> pl.DataFrame:
    """Minute bars of the names between two keys in the sessions between two days, both ends included, by session and name:
    name_id, session, at (UTC, the minute's start), open, high, low, close, volume (NaN where it is not counted). With
    `as_told` of the shares that there were then, else of those of today."""
    m = MinuteDay
    wanted = (m.session.between(*sessions), m.name_id.between(*names))
    with told(), engine.connect() as connection:
        days = connection.execute(
            select(m.session, m.name_id, m.minutes).where(*wanted).order_by(m.session, m.name_id)
        ).all()
    place, records = unpack_groups(MINUTE, [minutes for *_, minutes in days])
    session = np.array([session for session, *_ in days], dtype="datetime64[D]")[place]
    at = session.astype("datetime64[m]") + records["minute"].astype("timedelta64[m]")
    rows = pl.DataFrame(
        {
            "name_id": np.array([name_id for _, name_id, _ in days], dtype=np.int64)[place],
            "session": session,
            "at": at.astype("datetime64[ms]"),
            **{field: unpacked_prices(records[field]) for field in _PRICES},
            "volume": np.where(records["volume"] < 0, np.nan, records["volume"]),
        }
    )
    until = known_until(engine)
    # A minute is known when it is over, and moments are whole minutes.
    rows = rows if until is None else rows.filter(pl.col("at") < until)
    return (
        rows if as_told else read_splits(engine).adjust(rows, "session", ("open", "high", "low", "close"), ("volume",))
    )
