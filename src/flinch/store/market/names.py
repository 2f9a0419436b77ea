"""What is listed, what its contracts stand for, and the exchange's sessions."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, func, select

from flinch.store.engine import told
from flinch.store.market.chain import read_multipliers
from flinch.store.market.models import DailyBar, ExchangeSession, FundamentalSource, Name, Venue
from flinch.store.market.splits import read_adjusting, read_splits
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


def bars_as_traded(
    engine: Engine, rows: pl.DataFrame, day: str, prices: Sequence[str], counts: Sequence[str]
) -> pl.DataFrame:
    """Rows that have an `import_id` as they were traded: those that their source adjusted are told of the shares of their day."""
    splits = read_splits(engine)
    mine = pl.col("import_id").is_in(read_adjusting(engine) if splits.any else []).fill_null(False)
    one = pl.lit(1.0).alias("_one")
    factor = splits.adjust(rows.with_columns(one), day, ("_one",))["_one"].to_frame("_share")
    told = pl.concat([rows, factor], how="horizontal").with_columns(
        [pl.when(mine).then(pl.col(name) / pl.col("_share")).otherwise(name).alias(name) for name in prices]
        + [pl.when(mine).then(pl.col(name) * pl.col("_share")).otherwise(name).alias(name) for name in counts]
    )
    return told.drop("_share")


def bars_of_today(
    engine: Engine, rows: pl.DataFrame, day: str | pl.Expr, prices: Sequence[str] = (), counts: Sequence[str] = ()
) -> pl.DataFrame:
    """Rows that have an `import_id` as they are told of today's shares: those that their source adjusted stay."""
    splits = read_splits(engine)
    adjusting = read_adjusting(engine) if splits.any else []
    mine = pl.col("import_id").is_in(adjusting).fill_null(False)
    if not adjusting or not rows.select(mine.any()).item():
        return splits.adjust(rows, day, prices, counts)
    numbered = rows.with_row_index("_row")
    parts = [numbered.filter(mine), splits.adjust(numbered.filter(~mine), day, prices, counts)]
    return pl.concat(parts).sort("_row").drop("_row")
