"""Splits: what was told a share before one is told a share of today."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

import numpy as np
import polars as pl
from sqlalchemy import Engine, func, select

from flinch.store.engine import told
from flinch.store.market.models import ChainSnapshot, DailyBar, DataImport, Split
from flinch.store.reading import Dates, Floats, dates, read_rows


class Splits:
    """The splits up to the market's newest session."""

    def __init__(self, rows: pl.DataFrame) -> None:
        self._splits = list(rows.select("name_id", "ex_date", "ratio").iter_rows())

    @property
    def any(self) -> bool:
        """Whether there is one."""
        return bool(self._splits)

    def factor(self, name_id: np.ndarray, day: Dates) -> Floats:
        """Today's shares for one of each day, by name; 1 where nothing was split since."""
        factor = np.ones(name_id.size)
        # Few names split; the rows of all others are looked at once.
        theirs = np.flatnonzero(np.isin(name_id, np.unique([name for name, *_ in self._splits])))
        names, days, out = name_id[theirs], day[theirs], np.ones(theirs.size)
        for name, ex_date, ratio in self._splits:
            out[(names == name) & (days < np.datetime64(ex_date, "D"))] *= ratio
        factor[theirs] = out
        return factor

    def between(self, before: dt.date, until: dt.date) -> bool:
        """Whether anything was split after one day and up to another."""
        return any(before < ex_date <= until for _, ex_date, _ in self._splits)

    def adjust(
        self, rows: pl.DataFrame, day: str | pl.Expr, prices: Sequence[str] = (), counts: Sequence[str] = ()
    ) -> pl.DataFrame:
        """Rows of names and days with prices and counts as they are told of today's shares; `day` is their column."""
        if not self.any or not rows.height:
            return rows
        told = pl.col(day) if isinstance(day, str) else day
        days = dates(rows.with_columns(told.cast(pl.Date).alias("_day"))["_day"])
        factor = pl.Series("_factor", self.factor(rows["name_id"].to_numpy(), days))
        if (factor == 1).all():
            return rows
        return rows.with_columns(
            [(pl.col(name) / factor).alias(name) for name in prices]
            + [(pl.col(name) * factor).round().cast(rows.schema[name]).alias(name) for name in counts]
        )


def read_splits(engine: Engine) -> Splits:
    """The splits of all names, as far as the market has sessions."""
    s = Split
    newest = [select(func.max(column)).scalar_subquery() for column in (DailyBar.session, ChainSnapshot.session)]
    last = func.greatest(*[func.coalesce(one, "1900-01-01") for one in newest])
    return Splits(read_rows(engine, select(s.name_id, s.ex_date, s.ratio).where(s.ex_date <= last)))


def bars_of_today(
    engine: Engine, rows: pl.DataFrame, day: str | pl.Expr, prices: Sequence[str] = (), counts: Sequence[str] = ()
) -> pl.DataFrame:
    """Rows that have an `import_id` as they are told of today's shares: those that their source adjusted stay."""
    splits = read_splits(engine)
    return _where(_adjusted(engine), rows, splits.adjust(rows, day, prices, counts)) if splits.any else rows


def bars_as_traded(
    engine: Engine, rows: pl.DataFrame, day: str, prices: Sequence[str], counts: Sequence[str]
) -> pl.DataFrame:
    """Rows that have an `import_id` as they were traded: those that their source adjusted are told of the shares of their day."""
    splits = read_splits(engine)
    if not splits.any:
        return rows
    share = 1 / splits.adjust(rows.with_columns(pl.lit(1.0).alias("_share")), day, ("_share",))["_share"]
    traded = rows.with_columns([pl.col(name) * share for name in prices] + [pl.col(name) / share for name in counts])
    return _where(~_adjusted(engine), rows, traded)


def _adjusted(engine: Engine) -> pl.Expr:
    """Whether a row is of an import whose source adjusted prices for splits."""
    with told(), engine.connect() as connection:
        imports = connection.execute(select(DataImport.id, DataImport.how)).all()
    return pl.col("import_id").is_in([number for number, how in imports if how.get("adjusted")]).fill_null(False)


def _where(stays: pl.Expr, rows: pl.DataFrame, otherwise: pl.DataFrame) -> pl.DataFrame:
    """Rows that stay as they are, and the others of the same place in another table."""
    kept = rows.select(stays.alias("_stays"))["_stays"]
    return pl.DataFrame([rows[name].zip_with(kept, otherwise[name]) for name in rows.columns])
