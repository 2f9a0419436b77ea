"""Writing the simulated market to the store."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine

from flinch.feeds.publish import publish
from flinch.feeds.simulated import SimulatedMarket, simulate
from flinch.feeds.simulated.calendar import AS_OF
from flinch.feeds.state import SIMULATOR_VERSION, SOURCE
from flinch.store.bulk import empty_market, replace_rows
from flinch.store.market_state import begin_load, finish_load
from flinch.store.models import (
    Base,
    DailyBar,
    Dividend,
    EarningsReport,
    Estimate,
    ExchangeSession,
    ExtendedDay,
    Fundamental,
    FundMember,
    MinuteBar,
    Name,
    OptionDay,
    OptionQuote,
    ShortInterest,
    VolatilityDay,
)

Progress = Callable[[str, float], None]


def load_demo_market(engine: Engine, progress: Progress) -> None:
    """Make the demo market, write it and publish it; what an interrupted load left behind is removed first.

    `progress` is called with a stage's name and the share of it that is done.
    """
    market = simulate(progress)
    begin_load(engine, source=SOURCE, source_version=SIMULATOR_VERSION, as_of=AS_OF, rate=market.rate)
    empty_market(engine)
    write_market(engine, market, progress)
    progress("publish", 0.0)
    publish(engine)
    finish_load(engine)
    progress("publish", 1.0)


def write_market(engine: Engine, market: SimulatedMarket, progress: Progress) -> None:
    """Write the market's tables; today's volatility is left to publish, which reads it from the chain."""
    tables: list[tuple[type[Base], pl.DataFrame]] = [
        (Name, _names(market)),
        (ExchangeSession, pl.DataFrame({"session": market.calendar})),
        (DailyBar, _by_session(market, market.traded, _bars(market))),
        (ExtendedDay, _by_session(market, market.traded, market.extended._asdict())),
        (OptionDay, _by_session(market, _before_today(market), market.option_days)),
        (VolatilityDay, _by_session(market, _before_today(market), _vols(market))),
        (EarningsReport, _reports(market)),
        (FundMember, _members(market)),
        *[
            (table, rows.rename({"name": "name_id"}).with_columns(pl.col("name_id") + 1))
            for table, rows in (
                (Fundamental, market.fundamentals),
                (Estimate, market.estimates),
                (Dividend, market.dividends),
                (ShortInterest, market.short_interest),
                (MinuteBar, market.minute_bars),
            )
        ],
        (OptionQuote, _quotes(market)),
    ]
    for done, (table, rows) in enumerate(tables):
        progress("store", done / len(tables))
        replace_rows(engine, table, rows)
    progress("store", 1.0)


def _names(market: SimulatedMarket) -> pl.DataFrame:
    return pl.DataFrame(
        {
            "id": np.arange(1, len(market.names) + 1),
            "symbol": [name.symbol for name in market.names],
            "company": [name.company for name in market.names],
            "kind": [name.kind for name in market.names],
            "sector": [name.sector for name in market.names],
            "listed_on": market.listed_on,
            "shares_outstanding": market.shares_outstanding,
            "float_shares": market.float_shares,
        }
    )


def _by_session(
    market: SimulatedMarket, kept: NDArray[np.bool_], columns: dict[str, NDArray[np.generic]]
) -> pl.DataFrame:
    name, session = np.nonzero(kept)
    keys = {"name_id": name + 1, "session": market.sessions[session]}
    return pl.DataFrame(keys | {key: array[name, session] for key, array in columns.items()})


def _bars(market: SimulatedMarket) -> dict[str, NDArray[np.generic]]:
    return {"open": market.open, "high": market.high, "low": market.low, "close": market.close, "volume": market.volume}


def _vols(market: SimulatedMarket) -> dict[str, NDArray[np.generic]]:
    return {key: np.round(values, 6) for key, values in market.volatility.items()}


def _before_today(market: SimulatedMarket) -> NDArray[np.bool_]:
    kept = market.traded.copy()
    kept[:, -1] = False
    return kept


def _members(market: SimulatedMarket) -> pl.DataFrame:
    fund, company = np.nonzero(market.members)
    first = len(market.names) - market.members.shape[0]
    return pl.DataFrame(
        {"fund_id": fund + first + 1, "name_id": company + 1, "weight": np.round(market.members[fund, company], 8)}
    )


def _reports(market: SimulatedMarket) -> pl.DataFrame:
    """Past reports since the listing, and the next one of every company: later dates are not announced yet."""
    e = market.earnings
    newest = market.sessions.size - 1
    first_ahead = np.zeros(e.company.size, dtype=bool)
    ahead = np.flatnonzero(e.reaction > newest)
    first_ahead[ahead[np.unique(e.company[ahead], return_index=True)[1]]] = True
    kept = (e.announced >= market.listed_from[e.company]) & ((e.reaction <= newest) | first_ahead)
    return pl.DataFrame(
        {
            "name_id": e.company[kept] + 1,
            "session": market.calendar[e.announced[kept]],
            "timing": np.where(e.before_open[kept], "before_open", "after_close"),
        }
    )


def _quotes(market: SimulatedMarket) -> pl.DataFrame:
    chain, expiries = market.chain, market.expiries
    return pl.DataFrame(
        {
            "name_id": expiries.name[chain.expiry] + 1,
            "taken_at": np.full(chain.strike.size, np.datetime64(AS_OF.astimezone(dt.UTC).replace(tzinfo=None), "ms")),
            "expiration": expiries.expiration[chain.expiry],
            "strike": chain.strike,
            "is_call": chain.is_call,
            "bid": chain.bid,
            "ask": chain.ask,
            "volume": chain.volume,
            "open_interest": chain.open_interest,
        }
    )
