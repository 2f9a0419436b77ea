"""Writing the simulated market to the store."""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from functools import partial

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine

from flinch.clock import wall
from flinch.feeds.past_surfaces import past_surfaces
from flinch.feeds.publish import publish, publish_flow
from flinch.feeds.simulated import SimulatedMarket, Simulation
from flinch.feeds.simulated.calendar import AS_OF, CLOSE, EXCHANGE_ZONE, session_opens
from flinch.feeds.simulated.chains import Snapshot
from flinch.feeds.simulated.snapshots import AdjustedRows
from flinch.feeds.simulated.tape import TAPE_SESSIONS, VENUES
from flinch.feeds.state import SIMULATOR_VERSION, SOURCE
from flinch.store.bulk import empty_market, replace_rows
from flinch.store.market.chain import chain_rows, stored
from flinch.store.market.minutes import minute_rows
from flinch.store.market.models import (
    ChainSnapshot,
    ContractSeries,
    DailyBar,
    Dividend,
    EarningsReport,
    Estimate,
    ExchangeSession,
    ExtendedDay,
    FlowDay,
    Fundamental,
    FundMember,
    MarketBase,
    MinuteDay,
    Name,
    NameChain,
    NewsItem,
    OptionDay,
    Position,
    PrintDay,
    ShortInterest,
    SnapshotPrice,
    SurfaceDay,
    TapeDay,
    Venue,
    VolatilityDay,
)
from flinch.store.market.prints import print_rows
from flinch.store.market.run import begin_exchange
from flinch.store.market.state import advance, begin_load, begin_moment, finish_load, say_coming
from flinch.store.market.tape import tape_rows

Progress = Callable[[str, float], None]


def load_demo_market(
    engine: Engine, progress: Progress, *, market: SimulatedMarket, snapshots: int | None = None
) -> None:
    """Write a market that is made and publish it; what an interrupted load left behind is removed first.

    Parameters
    ----------
    engine
        The store, migrated.
    progress
        Called with a stage's name and the share of it that is done.
    market
        All of it.
    snapshots
        Stop at so many, as the market was then; all when left out.
    """
    count = len(market.snapshots) if snapshots is None else snapshots
    _begin(engine, market, market.snapshots[count - 1].taken_at)
    write_market(engine, market, progress, snapshots=count)
    for place in range(1, count):
        progress("publish", (place - 1) / (count - 1))
        publish(engine, market.snapshots[place].taken_at)
    finish_load(engine)
    progress("publish", 1.0)


COMING = (
    "exposure, flow and surfaces of past sessions, earlier chains, minute bars, option trades and off-exchange prints"
)
"""What `load_first` leaves to `load_rest`."""


def load_first(engine: Engine, progress: Progress) -> tuple[Simulation, SimulatedMarket]:
    """Make, write and publish what the first page shows: all daily series, the newest chains and those of the close before.

    What an interrupted load left behind is removed first. Returns what `load_rest` goes on with; until it has, the state says
    what is coming.
    """
    simulation = Simulation()
    market = simulation.first(progress)
    _begin(engine, market, market.snapshots[-1].taken_at)
    _write(
        [partial(_write_snapshot, engine, market, place) for place in range(len(market.snapshots))],
        _day_tables(engine, market, len(market.snapshots) - 1),
        lambda share: progress("store", share),
    )
    progress("publish", 0.0)
    for snapshot in market.snapshots:
        publish(engine, snapshot.taken_at)
    finish_load(engine, coming=COMING)
    progress("publish", 1.0)
    return simulation, market


def load_rest(engine: Engine, simulation: Simulation, first: SimulatedMarket, progress: Progress) -> None:
    """Make and write what is left, and then let it be served as the next version; meanwhile the state says how far it is."""
    stages = ("exposure", "quotes", "minutes", "tape", "prints", "rest", "published")
    told = -1

    def tell(stage: str, share: float) -> None:
        nonlocal told
        progress(stage, share)
        done = int(100 * sum(_PART[stage] for stage in stages[: stages.index(stage)]) + 100 * _PART[stage] * share)
        if done > told:
            told = done
            say_coming(engine, COMING, done)

    begin_moment(engine)
    market = simulation.whole(first, tell)
    written = {snapshot.taken_at for snapshot in first.snapshots}
    places = [place for place, snapshot in enumerate(market.snapshots) if snapshot.taken_at not in written]
    newest = len(market.snapshots) - 1
    _write(
        [partial(_write_snapshot, engine, market, place) for place in places],
        _past_tables(engine, market, newest),
        lambda share: tell("rest", share),
    )
    # The close before the newest session again: what was opened by then is known now.
    for place in range(1, newest):
        tell("published", (place - 1) / newest)
        publish(engine, market.snapshots[place].taken_at)
    publish_flow(engine, first.snapshots[-1].taken_at)
    begin_exchange(engine, market.onward.session.astype(object), market.onward.to_bytes(), wall())
    tell("published", 1.0)
    advance(engine, first.snapshots[-1].taken_at, past_changed=True)


_PART = {
    "exposure": 0.33,
    "quotes": 0.28,
    "minutes": 0.02,
    "tape": 0.02,
    "prints": 0.01,
    "rest": 0.14,
    "published": 0.2,
}
"""Shares of the time that the rest takes, about."""


def _begin(engine: Engine, market: SimulatedMarket, as_of: dt.datetime) -> None:
    begin_load(engine, source=SOURCE, source_version=SIMULATOR_VERSION, as_of=as_of, rate=market.rate)
    empty_market(engine)


def next_snapshot(engine: Engine, market: SimulatedMarket, place: int) -> None:
    """A later snapshot of the newest session arrives: its rows are written and published, and only then it is served."""
    begin_moment(engine)
    _write_snapshot(engine, market, place)
    replace_rows(engine, DailyBar, _by_session(market, _today(market), _bars_at(market, place)))
    today = market.sessions[-1].astype(object)
    replace_rows(engine, MinuteDay, minute_rows(_minutes(market, place).filter(pl.col("session") == today)))
    for table, rows, made in ((TapeDay, market.tape, tape_rows), (PrintDay, market.prints, print_rows)):
        replace_rows(engine, table, made(_told(market, rows, place).filter(pl.col("session") == today)))
    taken_at = market.snapshots[place].taken_at
    replace_rows(
        engine, NewsItem, _news(market, place).filter(pl.col("at") > stored(market.snapshots[place - 1].taken_at))
    )
    publish(engine, taken_at)
    advance(engine, taken_at)


def write_market(engine: Engine, market: SimulatedMarket, progress: Progress, *, snapshots: int | None = None) -> None:
    """Write all tables of a market, up to a number of snapshots; what is read from the chains is left to publish."""
    count = len(market.snapshots) if snapshots is None else snapshots
    _write(
        [partial(_write_snapshot, engine, market, place) for place in range(count)],
        [*_day_tables(engine, market, count - 1), *_past_tables(engine, market, count - 1)],
        lambda share: progress("store", share),
    )


def _summarised(market: SimulatedMarket) -> NDArray[np.bool_]:
    """Names and sessions whose chains are summed up by the simulator: those of kept chains are left to publish.

    Publish needs the open interest of the session before, so the oldest chain is not its work.
    """
    summarised = market.traded.copy()
    summarised[:, sorted({snapshot.session for snapshot in market.snapshots[1:]})] = False
    return summarised


Step = Callable[[], None]


def _day_tables(engine: Engine, market: SimulatedMarket, newest: int) -> list[Step]:
    """What is known of names and days, and the bars up to a snapshot; the longest first."""
    past, summarised = _before_today(market), _summarised(market)
    tables: list[tuple[type[MarketBase], pl.DataFrame]] = [
        (VolatilityDay, _by_session(market, summarised, _vols(market))),
        (OptionDay, _by_session(market, summarised, market.option_days)),
        (ExtendedDay, _by_session(market, market.traded, market.extended._asdict())),
        (DailyBar, _by_session(market, past, _bars(market))),
        (DailyBar, _by_session(market, _today(market), _bars_at(market, newest))),
        *[
            (table, rows.rename({"name": "name_id"}).with_columns(pl.col("name_id") + 1))
            for table, rows in (
                (Fundamental, market.fundamentals),
                (Estimate, market.estimates),
                (Dividend, market.dividends),
                (ShortInterest, market.short_interest),
            )
        ],
        (NewsItem, _news(market, newest)),
        (EarningsReport, _reports(market)),
        (Name, _names(market)),
        (ExchangeSession, pl.DataFrame({"session": market.calendar})),
        (FundMember, _members(market)),
        (ContractSeries, _series(market)),
    ]
    return [partial(replace_rows, engine, table, rows) for table, rows in tables]


def _past_tables(engine: Engine, market: SimulatedMarket, newest: int) -> list[Step]:
    """What the chains of all sessions came to, and the minutes up to a snapshot."""
    summarised = _summarised(market)
    return [
        lambda: replace_rows(engine, MinuteDay, minute_rows(_minutes(market, newest))),
        lambda: replace_rows(engine, TapeDay, tape_rows(_told(market, market.tape, newest))),
        lambda: replace_rows(engine, PrintDay, print_rows(_told(market, market.prints, newest))),
        lambda: replace_rows(engine, FlowDay, _by_session(market, _before_tape(market), market.flow)),
        lambda: replace_rows(engine, Venue, pl.DataFrame({"id": range(len(VENUES)), "name": VENUES})),
        lambda: _write_surfaces(engine, market, summarised),
        lambda: replace_rows(engine, Position, _history(market, summarised)),
    ]


def _write(snapshots: list[Step], tables: list[Step], progress: Callable[[float], None]) -> None:
    """Write snapshots in their order by one connection, so that each lies together, and tables by another: the database writes
    with one thread a connection."""
    done, total = itertools.count(1), len(snapshots) + len(tables) + 1

    def all_of(steps: list[Step]) -> None:
        for step in steps:
            step()
            progress(next(done) / total)

    with ThreadPoolExecutor(2) as writers:
        for written in [writers.submit(all_of, steps) for steps in (snapshots, tables)]:
            written.result()
    progress(1.0)


def _write_surfaces(engine: Engine, market: SimulatedMarket, kept: NDArray[np.bool_]) -> None:
    for rows in past_surfaces(market, kept):
        replace_rows(engine, SurfaceDay, rows)


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
    market: SimulatedMarket, kept: NDArray[np.bool_], columns: Mapping[str, NDArray[np.float64]]
) -> pl.DataFrame:
    session, name = np.nonzero(kept.T)
    keys = {"session": market.sessions[session], "name_id": name + 1}
    return pl.DataFrame(keys | {key: array[name, session] for key, array in columns.items()})


def _bars(market: SimulatedMarket) -> dict[str, NDArray[np.float64]]:
    return {"open": market.open, "high": market.high, "low": market.low, "close": market.close, "volume": market.volume}


def _bars_at(market: SimulatedMarket, place: int) -> dict[str, NDArray[np.float64]]:
    """Daily bars of which the newest ends with a snapshot."""
    bars = {key: values.copy() for key, values in _bars(market).items()}
    if market.snapshots[place].taken_at == AS_OF:
        return bars
    sofar = _minutes(market, place).filter(pl.col("at") >= session_opens(market.sessions[-1:])[0])
    day = (
        sofar.sort("name_id", "at")
        .group_by("name_id", maintain_order=True)
        .agg(pl.col("high").max(), pl.col("low").min(), pl.col("close").last(), pl.col("volume").sum())
    )
    row = day["name_id"].to_numpy() - 1
    for key in ("high", "low", "close", "volume"):
        bars[key][row, -1] = day[key].to_numpy()
    bars["volume"][np.isnan(market.volume[:, -1]), -1] = np.nan
    return bars


def _minutes(market: SimulatedMarket, place: int) -> pl.DataFrame:
    """Minute bars up to a snapshot, each with its session."""
    local = pl.col("at").dt.replace_time_zone("UTC").dt.convert_time_zone(EXCHANGE_ZONE.key)
    rows = market.minute_bars.filter(pl.col("at") < stored(market.snapshots[place].taken_at))
    return rows.rename({"name": "name_id"}).with_columns(pl.col("name_id") + 1, local.dt.date().alias("session"))


def _told(market: SimulatedMarket, trades: pl.DataFrame, place: int) -> pl.DataFrame:
    """Option trades or prints up to a snapshot."""
    newest = market.snapshots[place]
    midnight = dt.datetime.combine(market.sessions[newest.session].astype(object), dt.time(), dt.UTC)
    upto = (newest.taken_at - midnight) // dt.timedelta(milliseconds=1)
    at, session = pl.col("at"), pl.col("session")
    told = trades.filter((session < newest.session) | ((session == newest.session) & (at < upto)))
    return told.rename({"name": "name_id"}).with_columns(
        pl.col("name_id") + 1, pl.Series("session", market.sessions[told["session"].to_numpy()])
    )


def _vols(market: SimulatedMarket) -> dict[str, NDArray[np.float64]]:
    return {key: np.round(values, 6) for key, values in market.volatility.items()}


def _before_today(market: SimulatedMarket) -> NDArray[np.bool_]:
    kept = market.traded.copy()
    kept[:, -1] = False
    return kept


def _before_tape(market: SimulatedMarket) -> NDArray[np.bool_]:
    """Names and sessions whose trades are not kept; what the others came to is left to publish."""
    kept = market.traded.copy()
    kept[:, -TAPE_SESSIONS:] = False
    return kept


def _today(market: SimulatedMarket) -> NDArray[np.bool_]:
    kept = np.zeros_like(market.traded)
    kept[:, -1] = market.traded[:, -1]
    return kept


def _history(market: SimulatedMarket, kept: NDArray[np.bool_]) -> pl.DataFrame:
    """Exposure and open interest of past sessions, at their closes."""
    closes = [dt.datetime.combine(day, CLOSE, EXCHANGE_ZONE) for day in market.sessions.astype(object)]
    moment = np.array([stored(close) for close in closes], dtype="datetime64[ms]")
    session, name = np.nonzero(kept.T)
    keys = {"taken_at": moment[session], "name_id": name + 1}
    return pl.DataFrame(keys | {key: array[name, session] for key, array in market.positions.items()})


def _series(market: SimulatedMarket) -> pl.DataFrame:
    rows = [(i + 1, 0, m, m, 0.0) for i, m in enumerate(market.multiplier.tolist())]
    rows += [(a.name + 1, 1, a.multiplier, a.shares, a.cash) for a in market.adjusted if a.taken_at == AS_OF]
    return pl.DataFrame(rows, ["name_id", "series", "multiplier", "shares", "cash"], orient="row")


def _news(market: SimulatedMarket, place: int) -> pl.DataFrame:
    """Headlines up to a snapshot."""
    told = market.news.filter(pl.col("at") <= stored(market.snapshots[place].taken_at))
    return told.rename({"name": "name_id"}).with_columns(pl.col("name_id") + 1)


def _members(market: SimulatedMarket) -> pl.DataFrame:
    fund, company = np.nonzero(market.members)
    first = len(market.names) - market.members.shape[0]
    return pl.DataFrame(
        {"fund_id": fund + first + 1, "name_id": company + 1, "weight": np.round(market.members[fund, company], 8)}
    )


def _reports(market: SimulatedMarket) -> pl.DataFrame:
    """Past reports since the listing, and the next one of every company: its date comes with the report before it."""
    e = market.earnings
    newest = market.sessions.size - 1
    first_ahead = np.zeros(e.company.size, dtype=bool)
    ahead = np.flatnonzero(e.reaction > newest)
    first_ahead[ahead[np.unique(e.company[ahead], return_index=True)[1]]] = True
    kept = (e.announced >= market.listed_from[e.company]) & ((e.reaction <= newest) | first_ahead)
    first = np.concatenate([[True], e.company[1:] != e.company[:-1]])
    before = np.concatenate([[0], e.reaction[:-1]])
    # A company's first report here was announced a quarter before it.
    early = market.calendar[np.maximum(e.announced, 0)] - np.timedelta64(91, "D")
    known = np.where(first, early, market.calendar[np.clip(before, 0, market.calendar.size - 1)])
    return pl.DataFrame(
        {
            "name_id": e.company[kept] + 1,
            "session": market.calendar[e.announced[kept]],
            "known_on": known[kept],
            "timing": np.where(e.before_open[kept], "before_open", "after_close"),
        }
    )


def _write_snapshot(engine: Engine, market: SimulatedMarket, place: int) -> None:
    """One snapshot's contracts, prices, and the moment itself."""
    snapshot = market.snapshots[place]
    session, traded = market.sessions[snapshot.session].astype(object), market.traded[:, snapshot.session]
    adjusted = [rows for rows in market.adjusted if rows.taken_at == snapshot.taken_at]
    write_snapshot(engine, snapshot, session, traded, adjusted)


def write_snapshot(
    engine: Engine, snapshot: Snapshot, session: dt.date, traded: NDArray[np.bool_], adjusted: list[AdjustedRows]
) -> None:
    """A snapshot of a session, of the names that traded in it."""
    chain, expiries = snapshot.chain, snapshot.expiries
    moment = pl.lit(stored(snapshot.taken_at)).alias("taken_at")
    price = pl.DataFrame({"name_id": np.arange(1, traded.size + 1), "price": snapshot.spot})
    replace_rows(engine, ChainSnapshot, pl.DataFrame({"session": [session]}).with_columns(moment))
    replace_rows(engine, SnapshotPrice, price.filter(pl.Series(traded)).with_columns(moment))
    name = expiries.name[chain.expiry]
    standard = pl.DataFrame(
        {
            "name_id": name + 1,
            "expiration": expiries.expiration[chain.expiry],
            "strike": chain.strike,
            "is_call": chain.is_call,
            "series": np.zeros(name.size, dtype=np.int64),
            "bid": chain.bid,
            "ask": chain.ask,
            "volume": chain.volume,
            "open_interest": chain.open_interest,
        }
    ).filter(pl.Series(traded[name]))
    apart = [
        pl.DataFrame(
            {
                "name_id": np.full(rows.strike.size, rows.name + 1),
                "series": np.ones(rows.strike.size, dtype=np.int64),
                **{key: getattr(rows, key) for key in standard.columns if key not in ("name_id", "series")},
            }
        ).select(standard.columns)
        for rows in adjusted
    ]
    replace_rows(engine, NameChain, chain_rows(snapshot.taken_at, pl.concat([standard, *apart])))
