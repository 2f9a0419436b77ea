"""Option chains as they were quoted, at one moment or another."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import polars as pl
from sqlalchemy import Engine, select

from flinch.store.engine import known_until, told
from flinch.store.market.interest import read_interest_day
from flinch.store.market.models import ChainSnapshot, ContractSeries, Dividend, NameChain, SnapshotPrice
from flinch.store.market.splits import read_splits
from flinch.store.packing import (
    Records,
    pack_groups,
    packed_prices,
    unpack,
    unpack_groups,
    unpacked_prices,
)
from flinch.store.reading import numbers, read_rows, read_table

CONTRACT = np.dtype(
    [
        ("expiration", "<i4"), ("strike", "<f8"), ("is_call", "u1"), ("series", "<i2"), ("bid", "<i8"), ("ask", "<i8"),
        ("volume", "<i8"), ("open_interest", "<i8"),
    ]
)  # fmt: skip
"""One contract at a snapshot, by expiration, strike, puts first, series: days since 1970, strike, whether it is a call, series
(0: standard), bid and ask in ten-thousandths (-1: not quoted), volume of the session so far, open interest of its morning."""


def stored(moment: dt.datetime) -> dt.datetime:
    """An instant as the store keeps it: UTC without a zone."""
    return moment.astimezone(dt.UTC).replace(tzinfo=None)


class Snapshot(NamedTuple):
    """A moment (UTC) at which all chains were looked at, and the session it belongs to."""

    taken_at: dt.datetime
    session: dt.date


def read_snapshots(engine: Engine) -> list[Snapshot]:
    """Every snapshot held, in order."""
    s, until = ChainSnapshot, known_until(engine)
    wanted = select(s.taken_at, s.session).order_by(s.taken_at)
    rows = read_table(engine, wanted if until is None else wanted.where(s.taken_at <= until))
    return [Snapshot(taken_at.replace(tzinfo=dt.UTC), session) for taken_at, session in rows.iter_rows()]


def read_chain_days(engine: Engine, since: dt.date | None = None) -> pl.DataFrame:
    """Which names have chains of which sessions, from one on: session, name_id, each pair once."""
    told = select(ChainSnapshot.session, NameChain.name_id).join(
        NameChain, NameChain.taken_at == ChainSnapshot.taken_at
    )
    wanted = told if since is None else told.where(ChainSnapshot.session >= since)
    return read_table(engine, wanted.distinct()).select(
        pl.col("session").cast(pl.Date), pl.col("name_id").cast(pl.Int64)
    )


def chain_rows(taken_at: dt.datetime, contracts: pl.DataFrame) -> pl.DataFrame:
    """Rows of `NameChain` for the contracts of all names at a snapshot: name_id and the fields of `CONTRACT`, in any order."""
    ordered = contracts.sort("name_id", "expiration", "strike", "is_call", "series")
    records = np.empty(ordered.height, CONTRACT)
    for field in ("strike", "is_call", "series", "volume", "open_interest"):
        records[field] = ordered[field].to_numpy()
    records["expiration"] = ordered["expiration"].cast(pl.Date).to_physical().to_numpy()
    for field in ("bid", "ask"):
        records[field] = packed_prices(numbers(ordered[field]))
    owner = ordered["name_id"].cast(pl.Int64).to_numpy()
    owners, quotes = pack_groups(owner, records)
    counts = np.unique(owner, return_counts=True)[1]
    return pl.DataFrame({"name_id": owners, "contracts": counts, "quotes": quotes}).select(
        pl.lit(stored(taken_at)).alias("taken_at"), "name_id", "contracts", "quotes"
    )


def _frame(records: Records) -> pl.DataFrame:
    return pl.DataFrame(
        {
            "expiration": pl.Series(records["expiration"]).cast(pl.Date),
            "strike": records["strike"],
            "is_call": records["is_call"].astype(bool),
            "series": records["series"],
            **{side: pl.Series(unpacked_prices(records[side])).fill_nan(None) for side in ("bid", "ask")},
            "volume": records["volume"],
            "open_interest": records["open_interest"],
        }
    )


def _name_contracts(engine: Engine, name_id: int, taken_at: dt.datetime) -> pl.DataFrame:
    c = NameChain
    with told(), engine.connect() as connection:
        quotes = connection.execute(
            select(c.quotes).where(c.taken_at == stored(taken_at), c.name_id == name_id)
        ).scalar()
    rows = _frame(np.empty(0, CONTRACT) if quotes is None else unpack(CONTRACT, quotes))
    return _of_today(engine, rows.with_columns(pl.lit(name_id).alias("name_id")), taken_at).drop("name_id")


def _of_today(engine: Engine, rows: pl.DataFrame, taken_at: dt.datetime) -> pl.DataFrame:
    """Contracts of a snapshot with the open interest that came without them, as they are told of today's shares."""
    session = _session_of(engine, taken_at)
    if session is None or not rows.height:
        return rows
    key = ["name_id", "expiration", "strike", "is_call"]
    names = rows["name_id"]
    beside = read_interest_day(engine, session, (names.min(), names.max())).select(
        *key, pl.col("open_interest").alias("_beside")
    )
    if beside.height:
        without = pl.col("open_interest").sum().over("name_id") == 0
        both = rows.join(beside, on=key, how="left", maintain_order="left")
        told_so = pl.when(without).then(pl.col("_beside").fill_null(0)).otherwise("open_interest")
        rows = both.with_columns(told_so.cast(rows.schema["open_interest"]).alias("open_interest")).drop("_beside")
    return read_splits(engine).adjust(rows, pl.lit(session), ("strike", "bid", "ask"), ("volume", "open_interest"))


def _session_of(engine: Engine, taken_at: dt.datetime) -> dt.date | None:
    s = ChainSnapshot
    with told(), engine.connect() as connection:
        return connection.scalar(select(s.session).where(s.taken_at == stored(taken_at)))


def read_chain(engine: Engine, name_id: int, taken_at: dt.datetime, expiration: dt.date | None = None) -> pl.DataFrame:
    """One snapshot's standard contracts of a name, by expiration, strike, puts first; of one expiration when it is given.

    Columns expiration, strike, is_call, bid, ask, volume, open_interest; null where not quoted.
    """
    rows = _name_contracts(engine, name_id, taken_at).filter(pl.col("series") == 0)
    return (rows if expiration is None else rows.filter(pl.col("expiration") == expiration)).drop("series")


def read_adjusted(engine: Engine, name_id: int, taken_at: dt.datetime) -> pl.DataFrame:
    """What is held of a name's adjusted contracts at a snapshot, a series a row: series, multiplier, shares, cash, contracts,
    open_interest."""
    s = ContractSeries
    rows = _name_contracts(engine, name_id, taken_at).filter(pl.col("series") > 0)
    open_contracts = rows.group_by(pl.col("series").cast(pl.Int64)).agg(
        pl.len().alias("contracts"), pl.col("open_interest").sum()
    )
    terms = read_rows(
        engine,
        select(s.series, s.multiplier, s.shares, s.cash).where(s.name_id == name_id, s.series > 0).order_by(s.series),
    )
    return terms.join(open_contracts, on="series", how="inner", maintain_order="left")


def read_contracts(
    engine: Engine, taken_at: dt.datetime, names: tuple[int, int] | None = None, *, as_told: bool = False
) -> pl.DataFrame:
    """One snapshot's standard contracts of all names, or of those between two keys, both included, by name, expiration, strike,
    puts first: name_id, expiration, strike, is_call, bid, ask, volume, open_interest; null where not quoted. With `as_told` of
    the shares that there were then, else of those of today."""
    c = NameChain
    wanted = [c.taken_at == stored(taken_at), *([] if names is None else [c.name_id.between(*names)])]
    with told(), engine.connect() as connection:
        chains = connection.execute(select(c.name_id, c.quotes).where(*wanted).order_by(c.name_id)).all()
    place, records = unpack_groups(CONTRACT, [quotes for _, quotes in chains])
    ids = np.array([name_id for name_id, _ in chains], dtype=np.int64)
    rows = _frame(records).select(pl.Series("name_id", ids[place]), pl.all())
    standard = rows.filter(pl.col("series") == 0).drop("series")
    return standard if as_told else _of_today(engine, standard, taken_at)


def read_some_contracts(engine: Engine, taken_at: dt.datetime, names: Sequence[int]) -> pl.DataFrame:
    """The same of some names by their keys, with `adjusted`: whether contracts that a corporate action changed are listed too."""
    c = NameChain
    with told(), engine.connect() as connection:
        chains = connection.execute(
            select(c.name_id, c.quotes)
            .where(c.taken_at == stored(taken_at), c.name_id.in_([int(name) for name in names]))
            .order_by(c.name_id)
        ).all()
    place, records = unpack_groups(CONTRACT, [quotes for _, quotes in chains])
    ids = np.array([name_id for name_id, _ in chains], dtype=np.int64)
    rows = _frame(records).select(pl.Series("name_id", ids[place], dtype=pl.Int64), pl.all())
    changed = rows.filter(pl.col("series") > 0)["name_id"].unique()
    return (
        _of_today(engine, rows, taken_at)
        .filter(pl.col("series") == 0)
        .drop("series")
        .with_columns(pl.col("name_id").is_in(changed.implode()).alias("adjusted"))
    )


def _by_strike(engine: Engine, taken_at: dt.datetime, columns: Sequence[str]) -> pl.DataFrame:
    rows = read_contracts(engine, taken_at)
    key = ["name_id", "expiration", "strike"]
    calls, puts = (
        rows.filter(pl.col("is_call") == side).select(*key, pl.col(columns).name.prefix(prefix))
        for side, prefix in ((True, "call_"), (False, "put_"))
    )
    return calls.join(puts, on=key, how="full", coalesce=True).sort(key)


def read_strike_rows(engine: Engine, taken_at: dt.datetime) -> pl.DataFrame:
    """One snapshot's standard contracts of all names, a strike a row by name, expiration and strike: name_id, expiration, strike,
    and bid, ask, volume, open_interest of the call (call_) and the put (put_), null where a side is not listed."""
    return _by_strike(engine, taken_at, ("bid", "ask", "volume", "open_interest"))


def read_interest(engine: Engine, taken_at: dt.datetime) -> pl.DataFrame:
    """The same with open interest alone."""
    return _by_strike(engine, taken_at, ("open_interest",))


def read_spots(
    engine: Engine, taken_at: dt.datetime, name_id: int | None = None, *, as_told: bool = False
) -> pl.DataFrame:
    """Price of every name at a snapshot, or of one: name_id, price; `as_told` as in `read_contracts`."""
    p = SnapshotPrice
    wanted = [p.taken_at == stored(taken_at), *([] if name_id is None else [p.name_id == name_id])]
    read = read_table if name_id is None else read_rows
    rows = read(engine, select(p.name_id, p.price).where(*wanted).order_by(p.name_id))
    splits = None if as_told else read_splits(engine)
    return splits.adjust(rows, pl.lit(_session_of(engine, taken_at)), ("price",)) if splits and splits.any else rows


def read_multipliers(engine: Engine) -> pl.DataFrame:
    """Shares or index units a standard contract stands for: name_id, multiplier."""
    s = ContractSeries
    return read_table(engine, select(s.name_id, s.multiplier).where(s.series == 0).order_by(s.name_id))


def read_declared(engine: Engine, names: Sequence[int], after: dt.date, known_on: dt.date) -> pl.DataFrame:
    """Dividends of some names with an ex-date after a day, as far as they were declared by another: name_id, ex_date, amount."""
    d = Dividend
    rows = read_rows(
        engine,
        select(d.name_id, d.ex_date, d.amount)
        .where(d.name_id.in_([int(name) for name in names]), d.ex_date > after, d.declared_on <= known_on)
        .order_by(d.name_id, d.ex_date),
    )
    return read_splits(engine).adjust(rows.with_columns(pl.col("ex_date").cast(pl.Date)), "ex_date", ("amount",))


def read_dividends(engine: Engine, name_id: int) -> pl.DataFrame:
    """Every dividend of a name by ex-date: ex_date, declared_on, amount."""
    d = Dividend
    rows = read_rows(engine, select(d.ex_date, d.declared_on, d.amount).where(d.name_id == name_id).order_by(d.ex_date))
    rows = rows.with_columns(pl.col("ex_date", "declared_on").cast(pl.Date), pl.lit(name_id).alias("name_id"))
    return read_splits(engine).adjust(rows, "ex_date", ("amount",)).drop("name_id")
