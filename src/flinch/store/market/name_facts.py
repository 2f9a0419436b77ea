"""What was reported, estimated and published of one name, as it came."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any, NamedTuple

import polars as pl
from sqlalchemy import Engine, Select, select

from flinch.store.market.facts import EXPECTED, PER_SHARE
from flinch.store.market.models import Estimate, Fundamental, ShortInterest
from flinch.store.market.splits import read_splits
from flinch.store.reading import read_rows

FIGURES = ("eps_ttm", "sales_ttm", "book", "fcf_ttm", "debt_to_equity")
"""Figures of a report, per share but for the last."""


class NameFactRows(NamedTuple):
    """Newest first. Fundamentals: source (1 or 2), period_end, known_on and `FIGURES`; estimates: known_on, eps_next_year,
    fair_value; short interest: settled_on, known_on, shares. Missing figures are null."""

    fundamentals: pl.DataFrame
    estimates: pl.DataFrame
    short_interest: pl.DataFrame


def read_name_facts(engine: Engine, name_id: int, known_by: dt.date) -> NameFactRows:
    """All of a name that was known by a day."""
    f, e, s = Fundamental, Estimate, ShortInterest
    figures = [getattr(f, key) for key in FIGURES]
    reported = select(f.source, f.period_end, f.known_on, *figures).where(f.name_id == name_id, f.known_on <= known_by)
    expected = select(e.known_on, e.eps_next_year, e.fair_value).where(e.name_id == name_id, e.known_on <= known_by)
    shorted = select(s.settled_on, s.known_on, s.shares).where(s.name_id == name_id, s.known_on <= known_by)
    splits, mine = read_splits(engine), pl.lit(name_id).alias("name_id")

    def read(
        statement: Select[*tuple[Any, ...]], days: list[str], prices: Sequence[str] = (), counts: Sequence[str] = ()
    ) -> pl.DataFrame:
        rows = read_rows(engine, statement).with_columns(pl.col(days).cast(pl.Date), mine)
        return splits.adjust(rows, "known_on", prices, counts).drop("name_id")

    return NameFactRows(
        read(reported.order_by(f.period_end.desc(), f.source), ["period_end", "known_on"], PER_SHARE),
        read(expected.order_by(e.known_on.desc()), ["known_on"], EXPECTED),
        read(shorted.order_by(s.settled_on.desc()), ["settled_on", "known_on"], (), ("shares",)),
    )
