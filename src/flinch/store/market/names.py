"""What is listed, what its contracts stand for, and the exchange's sessions."""

from __future__ import annotations

import datetime as dt

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, func, select

from flinch.store.engine import told
from flinch.store.market.chain import read_multipliers
from flinch.store.market.models import DailyBar, ExchangeSession, FundamentalSource, Name, Venue
from flinch.store.market.splits import bars_of_today
from flinch.store.reading import Floats, dates, numbers, read_table


def read_names(engine: Engine) -> pl.DataFrame:
    """All names in the order of the frame's rows."""
    n = Name
    columns = (n.id, n.symbol, n.company, n.kind, n.sector, n.listed_on, n.shares_outstanding, n.float_shares)
    return read_table(engine, select(*columns).order_by(n.id))


def read_calendar(engine: Engine) -> NDArray[np.datetime64]:
    """Every session of the exchange that is known, past and ahead, in order."""
    rows = read_table(engine, select(ExchangeSession.session).order_by(ExchangeSession.session))
    return dates(rows["session"])


def read_keys(engine: Engine, table: type[Venue] | type[FundamentalSource]) -> dict[str, int]:
    """Keys of venues, or of sources of fundamentals, by name."""
    with told(), engine.connect() as connection:
        return {name: key for key, name in connection.execute(select(table.id, table.name))}


def multipliers(engine: Engine, ids: NDArray[np.int64]) -> Floats:
    """What a standard contract of each name stands for, shape (names,); a hundred where nothing else is said."""
    rows = read_multipliers(engine)
    out = np.full(ids.size, 100.0)
    rows = rows.filter(pl.col("name_id").is_in(ids.tolist()))
    out[np.searchsorted(ids, rows["name_id"].to_numpy())] = numbers(rows["multiplier"])
    return out


def read_newest_bar(engine: Engine, *, oldest: bool = False) -> dt.date | None:
    """The newest session that has bars, or the oldest; None where there are none."""
    which = func.min if oldest else func.max
    with told(), engine.connect() as connection:
        return connection.scalar(select(which(DailyBar.session)))


def read_closes(engine: Engine, session: dt.date) -> pl.DataFrame:
    """Every name's last price of a session: name_id, close."""
    b = DailyBar
    rows = read_table(engine, select(b.name_id, b.close, b.import_id).where(b.session == session).order_by(b.name_id))
    return bars_of_today(engine, rows, pl.lit(session), ("close",)).drop("import_id")
