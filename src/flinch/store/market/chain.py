"""Option chains as they were quoted, at one moment or another."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import polars as pl
from sqlalchemy import Engine, select

from flinch.store.market.models import ChainSnapshot, ContractSeries, Dividend, OptionQuote, SnapshotPrice
from flinch.store.reading import read_rows, read_table


def stored(moment: dt.datetime) -> dt.datetime:
    """An instant as the store keeps it: UTC without a zone."""
    return moment.astimezone(dt.UTC).replace(tzinfo=None)


class Snapshot(NamedTuple):
    """A moment (UTC) at which all chains were looked at, and the session it belongs to."""

    taken_at: dt.datetime
    session: dt.date


def read_snapshots(engine: Engine) -> list[Snapshot]:
    """Every snapshot held, in order."""
    s = ChainSnapshot
    rows = read_table(engine, select(s.taken_at, s.session).order_by(s.taken_at))
    return [Snapshot(taken_at.replace(tzinfo=dt.UTC), session) for taken_at, session in rows.iter_rows()]


def read_chain(engine: Engine, name_id: int, taken_at: dt.datetime, expiration: dt.date | None = None) -> pl.DataFrame:
    """One snapshot's standard contracts of a name, by expiration, strike, puts first; of one expiration when it is given.

    Columns expiration, strike, is_call, bid, ask, volume, open_interest.
    """
    q = OptionQuote
    wanted = [q.name_id == name_id, q.taken_at == stored(taken_at), q.series == 0]
    if expiration is not None:
        wanted.append(q.expiration == expiration)
    columns = (q.expiration, q.strike, q.is_call, q.bid, q.ask, q.volume, q.open_interest)
    rows = read_rows(engine, select(*columns).where(*wanted).order_by(q.expiration, q.strike, q.is_call))
    return rows.with_columns(pl.col("expiration").cast(pl.Date), pl.col("is_call").cast(pl.Boolean))


def read_adjusted(engine: Engine, name_id: int, taken_at: dt.datetime) -> pl.DataFrame:
    """What is held of a name's adjusted contracts at a snapshot, a series a row: series, multiplier, shares, cash, contracts,
    open_interest."""
    q, s = OptionQuote, ContractSeries
    rows = read_rows(
        engine,
        select(q.series, q.open_interest).where(q.name_id == name_id, q.taken_at == stored(taken_at), q.series > 0),
    )
    held = rows.group_by("series").agg(pl.len().alias("contracts"), pl.col("open_interest").cast(pl.Int64).sum())
    terms = read_rows(
        engine,
        select(s.series, s.multiplier, s.shares, s.cash).where(s.name_id == name_id, s.series > 0).order_by(s.series),
    )
    return terms.join(held, on="series", how="inner", maintain_order="left")


def _by_strike(engine: Engine, taken_at: dt.datetime, columns: tuple[str, ...]) -> pl.DataFrame:
    q = OptionQuote
    wanted = (q.name_id, q.expiration, q.strike, q.is_call, *[getattr(q, column) for column in columns])
    rows = read_table(engine, select(*wanted).where(q.taken_at == stored(taken_at), q.series == 0))
    key = ["name_id", "expiration", "strike"]
    calls, puts = (
        rows.filter(pl.col("is_call") == side).select(*key, pl.col(columns).name.prefix(prefix))
        for side, prefix in ((1, "call_"), (0, "put_"))
    )
    return calls.join(puts, on=key, how="full", coalesce=True).sort(key)


def read_strike_rows(engine: Engine, taken_at: dt.datetime) -> pl.DataFrame:
    """One snapshot's standard contracts of all names, a strike a row by name, expiration and strike: name_id, expiration, strike,
    and bid, ask, volume, open_interest of the call (call_) and the put (put_), null where a side is not listed."""
    return _by_strike(engine, taken_at, ("bid", "ask", "volume", "open_interest"))


def read_interest(engine: Engine, taken_at: dt.datetime) -> pl.DataFrame:
    """The same with open interest alone."""
    return _by_strike(engine, taken_at, ("open_interest",))


def read_spots(engine: Engine, taken_at: dt.datetime, name_id: int | None = None) -> pl.DataFrame:
    """Price of every name at a snapshot, or of one: name_id, price."""
    p = SnapshotPrice
    wanted = [p.taken_at == stored(taken_at), *([] if name_id is None else [p.name_id == name_id])]
    read = read_table if name_id is None else read_rows
    return read(engine, select(p.name_id, p.price).where(*wanted).order_by(p.name_id))


def read_multipliers(engine: Engine) -> pl.DataFrame:
    """Shares or index units a standard contract stands for: name_id, multiplier."""
    s = ContractSeries
    return read_table(engine, select(s.name_id, s.multiplier).where(s.series == 0).order_by(s.name_id))


def read_dividends(engine: Engine, name_id: int) -> pl.DataFrame:
    """Every dividend of a name by ex-date: ex_date, declared_on, amount."""
    d = Dividend
    rows = read_rows(engine, select(d.ex_date, d.declared_on, d.amount).where(d.name_id == name_id).order_by(d.ex_date))
    return rows.with_columns(pl.col("ex_date", "declared_on").cast(pl.Date))
