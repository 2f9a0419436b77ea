"""Which kinds of data a market has any of."""

from __future__ import annotations

import datetime as dt
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Date, Engine, cast, func, literal, select, union_all
from sqlalchemy.orm import InstrumentedAttribute

from flinch.store.engine import told
from flinch.store.market.models import (
    ChainSnapshot,
    DailyBar,
    Dividend,
    EarningsReport,
    Estimate,
    ExtendedDay,
    Fundamental,
    FundMember,
    InterestDay,
    MarketBase,
    MinuteDay,
    Name,
    NewsItem,
    PrintDay,
    RateDay,
    ShortInterest,
    Split,
    TapeDay,
    VolatilityDay,
)

HOLDS: dict[str, type[MarketBase]] = {
    "names": Name,
    "daily_bars": DailyBar,
    "chains": ChainSnapshot,
    "open_interest": InterestDay,
    "splits": Split,
    "volatility_days": VolatilityDay,
    "extended_days": ExtendedDay,
    "minute_bars": MinuteDay,
    "dividends": Dividend,
    "option_trades": TapeDay,
    "prints": PrintDay,
    "earnings_dates": EarningsReport,
    "fundamentals": Fundamental,
    "estimates": Estimate,
    "short_interest": ShortInterest,
    "fund_members": FundMember,
    "rates": RateDay,
    "news": NewsItem,
}
"""The table that each kind is written to."""
DAYS: dict[str, InstrumentedAttribute[Any] | ColumnElement[Any]] = {
    "daily_bars": DailyBar.session,
    "splits": Split.ex_date,
    "chains": ChainSnapshot.session,
    "open_interest": InterestDay.session,
    "volatility_days": VolatilityDay.session,
    "extended_days": ExtendedDay.session,
    "minute_bars": MinuteDay.session,
    "dividends": Dividend.ex_date,
    "option_trades": TapeDay.session,
    "prints": PrintDay.session,
    "earnings_dates": EarningsReport.session,
    "fundamentals": Fundamental.known_on,
    "estimates": Estimate.known_on,
    "short_interest": ShortInterest.settled_on,
    "rates": RateDay.session,
    "news": cast(NewsItem.at, Date),
}
"""The day that a kind's rows are of."""
BESIDE = frozenset({"open_interest", "splits", "rates"})
"""Kinds that only fill in what others leave open: nothing lacks them."""
LEAST = ("names", "daily_bars", "chains")
"""The kinds without which there is nothing to look at."""


def held_kinds(engine: Engine) -> set[str]:
    """Kinds of which the market has a row at least; one query."""
    parts = [
        select(literal(kind).label("kind")).select_from(table).limit(1).subquery() for kind, table in HOLDS.items()
    ]
    with told(), engine.connect() as connection:
        return set(connection.execute(union_all(*[select(part.c.kind) for part in parts])).scalars())


class Held(NamedTuple):
    """Whether a market has rows of a kind, and the first and the last day that they are of."""

    any: bool
    first: dt.date | None
    last: dt.date | None


def held_spans(engine: Engine) -> dict[str, Held]:
    """What a market has of every kind."""
    held = held_kinds(engine)
    parts = [select(literal(kind), func.min(day), func.max(day)) for kind, day in DAYS.items()]
    with told(), engine.connect() as connection:
        rows = connection.execute(union_all(*parts)).all()
    spans = {kind: (first, last) for kind, first, last in rows}
    return {kind: Held(kind in held, *spans.get(kind, (None, None))) for kind in HOLDS}
