"""What a market is: its calendar and currency, its index, and the rate where there are no others."""

from __future__ import annotations

from typing import NamedTuple

from sqlalchemy import Connection, Engine, insert, select

from flinch.store.engine import transaction
from flinch.store.market.models import MarketSetting


class MarketSettings(NamedTuple):
    """A market's settings: an exchange's calendar by its ISO 10383 code, an ISO 4217 currency, the symbol that relative strength
    is measured against, a continuously compounded rate (a decimal), and the calendar's zone."""

    calendar: str = "XNYS"
    currency: str = "USD"
    index_symbol: str | None = None
    rate: float = 0.04
    zone: str = "America/New_York"


def read_settings(engine: Engine) -> MarketSettings:
    """The settings of a migrated market."""
    with transaction(engine) as session:
        row = session.scalars(select(MarketSetting)).one()
        return MarketSettings(row.calendar, row.currency, row.index_symbol, row.rate, row.zone)


def begin_settings(connection: Connection, settings: MarketSettings) -> None:
    """Settings of a market that has none yet; those that are there stay."""
    values = {"id": 1} | dict(zip(("calendar", "currency", "index_symbol", "rate", "zone"), settings, strict=True))
    connection.execute(insert(MarketSetting).prefix_with("IGNORE").values(values))
