"""The markets there are: what each is, what it has, and what it lacks."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from flinch.features.data.schemas import MarketDraft, MarketRow
from flinch.market import Market, Markets
from flinch.store.market.calendars import calendar_zone
from flinch.store.market.holdings import HOLDS, LEAST, held_kinds
from flinch.store.market.settings import MarketSettings
from flinch.store.market.state import read_state


def market_rows(markets: Markets) -> list[MarketRow]:
    """Every market, the demo's first."""
    return [market_row(markets.look(name)) for name in markets.names()]


def market_row(market: Market) -> MarketRow:
    """One market."""
    state, held = read_state(market.engine), held_kinds(market.engine)
    settings = market.settings
    return MarketRow(
        name=market.name,
        source=None if state is None else state.source,
        as_of=None if state is None or not state.data_version else state.as_of.astimezone(ZoneInfo(settings.zone)),
        missing=[kind for kind in HOLDS if kind not in held],
        usable=held.issuperset(LEAST),
        calendar=settings.calendar,
        currency=settings.currency,
        index=settings.index_symbol,
        rate=settings.rate,
        zone=settings.zone,
    )


def settings_of(draft: MarketDraft) -> MarketSettings:
    """A draft's settings. Raises NoSuchCalendar."""
    return MarketSettings(draft.calendar, draft.currency, draft.index, draft.rate, calendar_zone(draft.calendar))
