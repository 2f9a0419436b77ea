"""Which kinds of data a market has any of."""

from __future__ import annotations

from sqlalchemy import Engine, literal, select, union_all

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
    MarketBase,
    MinuteDay,
    Name,
    PrintDay,
    ShortInterest,
    TapeDay,
)

HOLDS: dict[str, type[MarketBase]] = {
    "names": Name,
    "daily_bars": DailyBar,
    "chains": ChainSnapshot,
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
}
"""The table that each kind is written to."""
LEAST = ("names", "daily_bars", "chains")
"""The kinds without which there is nothing to look at."""


def held_kinds(engine: Engine) -> set[str]:
    """Kinds of which the market has a row at least; one query."""
    parts = [
        select(literal(kind).label("kind")).select_from(table).limit(1).subquery() for kind, table in HOLDS.items()
    ]
    with told(), engine.connect() as connection:
        return set(connection.execute(union_all(*[select(part.c.kind) for part in parts])).scalars())
