"""Expirations as they were read out of a chain."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import ColumnElement, Engine, select

from flinch.store.engine import known_until, told
from flinch.store.market.chain import stored
from flinch.store.market.models import SVI_COLUMNS, ExpiryVolatility, SurfaceDay
from flinch.store.packing import unpack, unpack_groups
from flinch.store.reading import read_rows, read_table

PACKED = np.dtype(
    [
        ("days", "<i2"), ("forward", "<f4"), ("svi", "<f4", (5,)), ("vol_ex_earnings", "<f4"), ("straddle", "<f4"),
        ("straddle_strike", "<f4"), ("lowest", "<f4"), ("highest", "<f4"), ("quality", "u1"), ("flaw", "u1"), ("strikes", "u1"),
        ("from_parity", "u1"),
    ]
)  # fmt: skip
"""One expiration of a kept surface, little-endian: calendar days after the session, forward, raw SVI in total variance,
volatility at the money without reports, straddle and its strike, lowest and highest strike that took part, quality in percent
(`NO_QUALITY`: none), index of its flaw, strikes that took part (at most 255), whether the forward is from parity. NaN where there
is none."""


NO_QUALITY = 255


class KeptSurface(NamedTuple):
    """A name's surface of a session: the moment (UTC) it was read at, and its expirations, of type `PACKED`."""

    taken_at: dt.datetime
    expirations: NDArray[np.void]


def read_surface(engine: Engine, name_id: int, session: dt.date) -> KeptSurface | None:
    """A name's surface of a session; None where none was kept."""
    s = SurfaceDay
    with told(), engine.connect() as connection:
        row = connection.execute(
            select(s.taken_at, s.surface).where(s.name_id == name_id, s.session == session, *_known(engine))
        ).first()
    return None if row is None else KeptSurface(row[0].replace(tzinfo=dt.UTC), unpack(PACKED, row[1]))


def _known(engine: Engine) -> list[ColumnElement[bool]]:
    until = known_until(engine)
    return [] if until is None else [SurfaceDay.taken_at <= until]


_FEW = 150
"""Names that are asked for one by one; of more all are read."""


def read_surfaces(
    engine: Engine, session: dt.date, ids: NDArray[np.int64] | None = None
) -> tuple[NDArray[np.int64], NDArray[np.void]]:
    """Expirations of names' surfaces in a session, of type `PACKED`, and the key of the name of each: of all names, or at least
    of those in `ids`."""
    s = SurfaceDay
    wanted = [s.session == session, *_known(engine)]
    if ids is not None and ids.size <= _FEW:
        wanted.append(s.name_id.in_(ids.tolist()))
    with told(), engine.connect() as connection:
        rows = connection.execute(select(s.name_id, s.surface).where(*wanted).order_by(s.name_id)).all()
    place, records = unpack_groups(PACKED, [surface for _, surface in rows])
    return np.array([name_id for name_id, _ in rows], dtype=np.int64)[place], records


class Expiry(NamedTuple):
    """One listed expiration of one name, as read from the newest chain; NaN where it could not be."""

    expiration: dt.date
    years: float
    forward: float
    forward_from_parity: bool
    vol: float
    strikes: int
    straddle: float
    straddle_strike: float
    carry: float
    vol_ex_earnings: float
    put_25d: float
    call_25d: float
    quality: float
    flaw: str
    lowest_strike: float
    highest_strike: float
    svi: tuple[float, float, float, float, float]


def read_expiries(
    engine: Engine, taken_at: dt.datetime, ids: NDArray[np.int64], name_id: int | None = None
) -> dict[int, list[Expiry]]:
    """Expirations as they were read at a snapshot, by row of the frame; of one name when it is given."""
    e = ExpiryVolatility
    wanted = [e.taken_at == stored(taken_at)]
    if name_id is not None:
        wanted.append(e.name_id == name_id)
    read = read_table if name_id is None else read_rows
    rows = read(
        engine,
        select(
            e.name_id,
            e.expiration,
            e.years,
            e.forward,
            e.forward_from_parity,
            e.vol,
            e.strikes,
            e.straddle,
            e.straddle_strike,
            e.carry,
            e.vol_ex_earnings,
            e.put_25d,
            e.call_25d,
            e.quality,
            e.flaw,
            e.lowest_strike,
            e.highest_strike,
            *[getattr(e, column) for column in SVI_COLUMNS],
        )
        .where(*wanted)
        .order_by(e.name_id, e.expiration),
    )
    rows = rows.with_columns(pl.col(pl.Float64).fill_null(np.nan))
    out: dict[int, list[Expiry]] = {}
    rows = rows.filter(pl.col("name_id").is_in(ids.tolist()))
    owners = np.searchsorted(ids, rows["name_id"].to_numpy()).tolist()
    plain = rows.drop("name_id", *SVI_COLUMNS).with_columns(pl.col("forward_from_parity").cast(pl.Boolean))
    for row, fields, svi in zip(owners, plain.iter_rows(), rows.select(SVI_COLUMNS).iter_rows(), strict=True):
        out.setdefault(row, []).append(Expiry._make((*fields, svi)))
    return out


def read_smiles(engine: Engine, taken_at: dt.datetime, names: tuple[int, int]) -> pl.DataFrame:
    """Smiles as they were read at a snapshot, of the names between two keys, both included, where a volatility could be read:
    name_id, expiration, years, carry, and the five parameters of raw SVI."""
    e = ExpiryVolatility
    columns = (e.name_id, e.expiration, e.years, e.carry, *[getattr(e, column) for column in SVI_COLUMNS])
    read = read_rows if names[0] == names[1] else read_table
    rows = read(
        engine,
        select(*columns).where(e.taken_at == stored(taken_at), e.name_id.between(*names), e.vol.is_not(None)),
    )
    return rows.with_columns(pl.col("expiration").cast(pl.Date), pl.col("name_id").cast(pl.Int64))
