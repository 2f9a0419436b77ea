"""Option trades, a name's session in one row."""

from __future__ import annotations

import datetime as dt

import numpy as np
import polars as pl
from sqlalchemy import Engine, func, select

from flinch.store.engine import known_until, told
from flinch.store.market.models import TapeDay, Venue
from flinch.store.market.splits import read_splits
from flinch.store.packing import pack_groups, packed_prices, unpack_groups, unpacked_prices
from flinch.store.reading import numbers

PACKAGE, LATE, CANCELLED, AUCTION = 1, 2, 4, 8
"""Conditions of a fill, added up: part of a package, told late, taken back, of the opening auction."""
FILL = np.dtype(
    [
        ("at", "<i4"), ("expiration", "<i4"), ("strike", "<i8"), ("is_call", "u1"), ("venue", "<i2"), ("conditions", "u1"),
        ("price", "<i8"), ("contracts", "<i4"), ("bid", "<i8"), ("ask", "<i8"),
    ]
)  # fmt: skip
"""One fill, in the order in which the source told it: milliseconds since the session's midnight in UTC, days since 1970 of the
expiration, strike in ten-thousandths, whether it is a call, key of the venue, conditions, price in ten-thousandths, contracts as
told, bid and ask at the trade in ten-thousandths (-1: not quoted)."""
_PRICES = ("strike", "price", "bid", "ask")


def tape_rows(fills: pl.DataFrame) -> pl.DataFrame:
    """Rows of `TapeDay`: session, name_id and the fields of `FILL` (prices as prices); the order of a name's session stays.

    Raises
    ------
    ValueError
        For a price that is negative or finer than eight decimals.
    """
    ordered = fills.sort("session", "name_id", maintain_order=True)
    records = np.empty(ordered.height, FILL)
    for field in ("at", "is_call", "venue", "conditions", "contracts"):
        records[field] = ordered[field].to_numpy()
    for field in _PRICES:
        records[field] = packed_prices(numbers(ordered[field]))
    records["expiration"] = ordered["expiration"].cast(pl.Date).to_physical().to_numpy()
    day = ordered["session"].cast(pl.Date).to_physical().to_numpy().astype(np.int64)
    owner = (day << 32) + ordered["name_id"].cast(pl.Int64).to_numpy()
    owners, packed = pack_groups(owner, records)
    return pl.DataFrame(
        {
            "session": pl.Series((owners >> 32).astype(np.int32)).cast(pl.Date),
            "name_id": owners & 0xFFFFFFFF,
            "count": np.unique(owner, return_counts=True)[1],
            "fills": pl.Series(packed, dtype=pl.Binary),
        }
    )


def read_tape(
    engine: Engine, names: tuple[int, int], sessions: tuple[dt.date, dt.date], *, as_told: bool = False
) -> pl.DataFrame:
    """Fills of the names between two keys in the sessions between two days, both ends included, by session and name, in the order
    in which they were told: name_id, session, and the fields of `FILL` (prices as prices, NaN where not quoted). With
    `as_told` of the shares that there were then, else of those of today."""
    t = TapeDay
    with told(), engine.connect() as connection:
        days = connection.execute(
            select(t.session, t.name_id, t.fills)
            .where(t.session.between(*sessions), t.name_id.between(*names))
            .order_by(t.session, t.name_id)
        ).all()
    place, records = unpack_groups(FILL, [fills for *_, fills in days])
    rows = pl.DataFrame(
        {
            "name_id": np.array([name_id for _, name_id, _ in days], dtype=np.int64)[place],
            "session": np.array([session for session, *_ in days], dtype="datetime64[D]")[place],
            "at": records["at"].astype(np.int64),
            "expiration": pl.Series(records["expiration"]).cast(pl.Date),
            "strike": unpacked_prices(records["strike"]),
            "is_call": records["is_call"].astype(bool),
            "venue": records["venue"],
            "conditions": records["conditions"],
            "price": unpacked_prices(records["price"]),
            "contracts": records["contracts"].astype(np.int64),
            "bid": unpacked_prices(records["bid"]),
            "ask": unpacked_prices(records["ask"]),
        }
    )
    rows = told_by(rows, known_until(engine))
    return (
        rows
        if as_told
        else read_splits(engine).adjust(rows, "session", ("strike", "price", "bid", "ask"), ("contracts",))
    )


def told_by(rows: pl.DataFrame, until: dt.datetime | None) -> pl.DataFrame:
    """Rows with `session` and `at` (milliseconds since its midnight) that were told before a moment; all of them without one."""
    return (
        rows
        if until is None
        else rows.filter(pl.col("session").cast(pl.Datetime("ms")) + pl.duration(milliseconds="at") < until)
    )


def read_tape_sessions(engine: Engine) -> list[dt.date]:
    """Sessions of which trades are kept, in order."""
    with told(), engine.connect() as connection:
        return list(connection.execute(select(TapeDay.session).distinct().order_by(TapeDay.session)).scalars())


def read_fill_counts(engine: Engine) -> dict[dt.date, int]:
    """How many fills are kept of each session, in order."""
    with told(), engine.connect() as connection:
        rows = connection.execute(
            select(TapeDay.session, func.sum(TapeDay.count)).group_by(TapeDay.session).order_by(TapeDay.session)
        )
        return {session: int(count) for session, count in rows}


def read_venues(engine: Engine) -> dict[int, str]:
    """Names of the venues by key."""
    with told(), engine.connect() as connection:
        return {key: name for key, name in connection.execute(select(Venue.id, Venue.name))}
