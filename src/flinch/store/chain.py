"""One name's option chain as it was quoted."""

from __future__ import annotations

import datetime as dt

import polars as pl
from sqlalchemy import Engine, select

from flinch.store.models import Dividend, OptionQuote
from flinch.store.reading import read_table


def read_chain(engine: Engine, name_id: int, taken_at: dt.datetime, expiration: dt.date | None = None) -> pl.DataFrame:
    """One snapshot's contracts of a name, by expiration, strike, puts first; of one expiration when it is given.

    Columns expiration, strike, is_call, bid, ask, volume, open_interest.
    """
    q = OptionQuote
    wanted = [q.name_id == name_id, q.taken_at == taken_at.astimezone(dt.UTC).replace(tzinfo=None)]
    if expiration is not None:
        wanted.append(q.expiration == expiration)
    columns = (q.expiration, q.strike, q.is_call, q.bid, q.ask, q.volume, q.open_interest)
    rows = read_table(engine, select(*columns).where(*wanted).order_by(q.expiration, q.strike, q.is_call))
    return rows.with_columns(pl.col("expiration").cast(pl.Date), pl.col("is_call").cast(pl.Boolean))


def read_dividends(engine: Engine, name_id: int) -> pl.DataFrame:
    """Every dividend of a name by ex-date: ex_date, declared_on, amount."""
    d = Dividend
    rows = read_table(
        engine, select(d.ex_date, d.declared_on, d.amount).where(d.name_id == name_id).order_by(d.ex_date)
    )
    return rows.with_columns(pl.col("ex_date", "declared_on").cast(pl.Date))
