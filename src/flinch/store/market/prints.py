"""Off-exchange prints, a name's session in one row."""

from __future__ import annotations

import datetime as dt

import numpy as np
import polars as pl
from sqlalchemy import Engine, select

from flinch.store.engine import known_until, told
from flinch.store.market.models import PrintDay
from flinch.store.market.splits import read_splits
from flinch.store.market.tape import told_by
from flinch.store.packing import pack_groups, packed_prices, unpack_groups, unpacked_prices
from flinch.store.reading import numbers

AVERAGE, DERIVATIVE, LATE = 1, 2, 4
"""Conditions of a print, added up: at an average price, at a price that follows from something else, told late."""
PRINT = np.dtype([("at", "<i4"), ("price", "<i8"), ("shares", "<i4"), ("conditions", "u1")])
"""One print, in the order in which the source told it: milliseconds since the session's midnight in UTC, price in
ten-thousandths, shares as told, conditions."""


def print_rows(prints: pl.DataFrame) -> pl.DataFrame:
    """Rows of `PrintDay`: session, name_id and the fields of `PRINT` (prices as prices); the order of a name's session stays.

    Raises
    ------
    ValueError
        For a price that is negative or finer than eight decimals.
    """
    ordered = prints.sort("session", "name_id", maintain_order=True)
    records = np.empty(ordered.height, PRINT)
    for field in ("at", "shares", "conditions"):
        records[field] = ordered[field].to_numpy()
    records["price"] = packed_prices(numbers(ordered["price"]))
    day = ordered["session"].cast(pl.Date).to_physical().to_numpy().astype(np.int64)
    owners, packed = pack_groups((day << 32) + ordered["name_id"].cast(pl.Int64).to_numpy(), records)
    return pl.DataFrame(
        {
            "session": pl.Series((owners >> 32).astype(np.int32)).cast(pl.Date),
            "name_id": owners & 0xFFFFFFFF,
            "prints": pl.Series(packed, dtype=pl.Binary),
        }
    )


def read_prints(
    engine: Engine, names: tuple[int, int], sessions: tuple[dt.date, dt.date], *, as_told: bool = False
) -> pl.DataFrame:
    """Prints of the names between two keys in the sessions between two days, both ends included, by name and session, in the
    order in which they were told: name_id, session, and the fields of `PRINT` (prices as prices). With `as_told` of the
    shares that there were then, else of those of today."""
    p = PrintDay
    with told(), engine.connect() as connection:
        days = connection.execute(
            select(p.name_id, p.session, p.prints)
            .where(p.session.between(*sessions), p.name_id.between(*names))
            .order_by(p.name_id, p.session)
        ).all()
    place, records = unpack_groups(PRINT, [prints for *_, prints in days])
    rows = pl.DataFrame(
        {
            "name_id": np.array([name_id for name_id, *_ in days], dtype=np.int64)[place],
            "session": np.array([session for _, session, _ in days], dtype="datetime64[D]")[place],
            "at": records["at"].astype(np.int64),
            "price": unpacked_prices(records["price"]),
            "shares": records["shares"].astype(np.int64),
            "conditions": records["conditions"],
        }
    )
    rows = told_by(rows, known_until(engine))
    return rows if as_told else read_splits(engine).adjust(rows, "session", ("price",), ("shares",))


def read_print_sessions(engine: Engine) -> list[dt.date]:
    """Sessions of which prints are kept, oldest first."""
    with told(), engine.connect() as connection:
        return list(connection.execute(select(PrintDay.session).distinct().order_by(PrintDay.session)).scalars())
