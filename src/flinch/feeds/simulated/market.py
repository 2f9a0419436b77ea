"""The whole demo market, stage by stage."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import SESSIONS, DateArray, market_sessions, sessions_after
from flinch.feeds.simulated.chains import Chain, Snapshot
from flinch.feeds.simulated.earnings import EarningsCalendar, make_earnings
from flinch.feeds.simulated.extended import ExtendedHours, make_extended
from flinch.feeds.simulated.facts import make_dividends, make_estimates, make_fundamentals, make_short_interest
from flinch.feeds.simulated.interest import RATE, Expiries, make_open_interest
from flinch.feeds.simulated.intraday import make_minute_bars
from flinch.feeds.simulated.names import SIZES, Listing, fund_weights, listings
from flinch.feeds.simulated.option_days import make_option_days
from flinch.feeds.simulated.paths import HALTED_AT, WARM_UP, Paths, company_traits, simulate_paths, stretches
from flinch.feeds.simulated.snapshots import AdjustedRows, adjusted_rows, take_snapshots
from flinch.feeds.simulated.storylines import Storyline, storylines
from flinch.feeds.simulated.surfaces import premium_history, smile_history
from flinch.feeds.simulated.volatility import PastSurfaces, make_volatility_history

Floats = NDArray[np.float64]
SEED = 20260909
_AHEAD = 400


@dataclass(frozen=True)
class SimulatedMarket:
    """Everything the simulator makes; arrays are names x sessions unless they say otherwise."""

    names: list[Listing]
    sessions: DateArray
    listed_from: NDArray[np.int64]  # first session index, shape (names,)
    listed_on: DateArray  # first session of trading, mostly long before `sessions[0]`
    shares_outstanding: Floats  # NaN for funds and indices, shape (names,)
    float_shares: Floats  # those that can be traded, likewise
    open: Floats
    high: Floats
    low: Floats
    close: Floats
    volume: Floats  # NaN for indices
    option_days: dict[str, Floats]  # by column of the store: volume, interest, width, what is listed
    extended: ExtendedHours
    surfaces: PastSurfaces
    carry: Floats  # what the forward of each name grows less than money, shape (names,)
    volatility: dict[str, Floats]  # by column of the store: implied volatility of every kind, fit quality
    traded: NDArray[np.bool_]  # false where a session is missing or before the listing
    earnings: EarningsCalendar  # session indices count from `sessions[0]`, and past its end for reports ahead
    calendar: DateArray  # `sessions` and the ones ahead
    positions: dict[str, Floats]  # by column of the store: exposure and open interest of every session's chains
    snapshots: list[Snapshot]  # chains at the newest closes and during the newest session, in order
    multiplier: Floats  # shares or index units a contract, shape (names,)
    adjusted: list[AdjustedRows]  # contracts apart from the standard ones
    rate: float
    fundamentals: pl.DataFrame
    estimates: pl.DataFrame
    dividends: pl.DataFrame
    short_interest: pl.DataFrame
    members: Floats  # weights of companies in funds and indices, shape (funds and indices, companies)
    minute_bars: pl.DataFrame

    @property
    def chain(self) -> Chain:
        """The newest snapshot's contracts."""
        return self.snapshots[-1].chain

    @property
    def expiries(self) -> Expiries:
        """The newest snapshot's expirations, with the true volatility at the money."""
        return self.snapshots[-1].expiries


def _stream(label: str) -> np.random.Generator:
    """A stream of its own for each part, so that a new part does not change the old ones."""
    return np.random.default_rng([SEED, zlib.crc32(label.encode())])


def simulate(progress: Callable[[str, float], None] = lambda stage, share: None) -> SimulatedMarket:
    """Make the demo market.

    Parameters
    ----------
    progress
        Called with the stage's name and the share of it that is done, 0 to 1.

    Returns
    -------
    `SimulatedMarket`, the same on every machine: one seed, no clock.
    """
    progress("names", 0.0)
    names = listings()
    companies = [name for name in names if name.kind == "stock"]
    planted = {story.symbol: story for story in storylines()}
    traits = company_traits(companies, _stream("traits"))
    sessions = market_sessions()
    calendar = np.concatenate([market_sessions(WARM_UP), sessions_after(_AHEAD)])
    earnings = make_earnings(
        calendar, [c.symbol for c in companies], traits.earnings_move, planted, _stream("earnings")
    )
    progress("names", 1.0)

    paths = simulate_paths(
        names, traits, SESSIONS + WARM_UP, earnings, planted, _stream("paths"), lambda share: progress("prices", share)
    )
    progress("prices", 1.0)
    calendar = calendar[WARM_UP:]
    earnings = earnings._replace(announced=earnings.announced - WARM_UP, reaction=earnings.reaction - WARM_UP)
    close = np.round(paths.close, 2)

    shares = np.full(len(names), np.nan)
    shares[: len(companies)] = np.round(traits.capitalisation / traits.start_price, -3)
    volume, option_volume = _activity(names, paths, shares, earnings)
    for i, name in enumerate(names):
        if story := planted.get(name.symbol):
            volume[i] = np.round(volume[i] * stretches(story.volume, SESSIONS), -2)

    premium = premium_history(len(names), SESSIONS, np.array([n.kind != "stock" for n in names]), _stream("premium"))
    for i, name in enumerate(names):
        if name.symbol in planted:
            premium[i] *= stretches(planted[name.symbol].premium, SESSIONS)
    weeklies = _weeklies(names, planted)
    smiles = smile_history(len(names), SESSIONS, _stream("smiles"))
    history, surfaces = make_volatility_history(
        names, listing_groups(names, weeklies), paths, premium, smiles, earnings, calendar, _stream("volatility noise"),
        lambda share: progress("volatility", share),
    )  # fmt: skip
    progress("volatility", 1.0)

    halted = np.array([bool(planted[n.symbol].halted) if n.symbol in planted else False for n in names])
    carry = np.where(
        [n.kind == "stock" for n in names], _stream("carry").choice([0.0, 0.0, 0.012, 0.025, 0.04], len(names)), 0.015
    )
    multiplier = np.full(len(names), 100.0)
    for i, name in enumerate(names):
        story = planted.get(name.symbol)
        carry[i] = carry[i] if story is None or story.carry is None else story.carry
        multiplier[i] = multiplier[i] if story is None or story.multiplier is None else story.multiplier
    groups = listing_groups(names, weeklies)
    interest = make_open_interest(
        names, groups, paths, close, carry, multiplier, premium, smiles, earnings, calendar, option_volume, planted,
        _stream("open interest"), lambda share: progress("interest", share),
    )  # fmt: skip
    progress("interest", 1.0)
    snapshots = take_snapshots(
        names, interest.books, paths, premium, smiles, earnings, calendar, close, carry, halted, _stream("quotes"),
        lambda share: progress("chains", share),
    )  # fmt: skip
    progress("chains", 1.0)

    traded = np.ones((len(names), SESSIONS), dtype=bool)
    listed_from = np.zeros(len(names), dtype=np.int64)
    for i, name in enumerate(names):
        story = planted.get(name.symbol)
        if story and story.listed is not None:
            listed_from[i] = SESSIONS + story.listed
            traded[i, : listed_from[i]] = False
        for first, last in story.missing if story else []:
            traded[i, SESSIONS + first : SESSIONS + last + 1] = False

    progress("facts", 0.0)
    option_days = interest.totals | make_option_days(
        names, groups, sessions, history["iv30"], snapshots[-1], _stream("option days")
    )
    extended = make_extended(names, np.round(paths.open, 2), close, volume, earnings, planted, _stream("extended"))
    fundamentals = make_fundamentals(names, close, calendar, SESSIONS, earnings, planted, _stream("fundamentals"))
    estimates = make_estimates(names, close, fundamentals, calendar, planted, _stream("estimates"))
    dividends = make_dividends(names, close, carry, calendar, SESSIONS, _stream("dividends"))
    short_interest = make_short_interest(names, close, shares, calendar, planted, _stream("short interest"))
    progress("facts", 1.0)
    progress("minutes", 0.0)
    stopped = {int(i): HALTED_AT for i in np.flatnonzero(halted)}
    minute_bars = make_minute_bars(names, paths.steps, sessions, volume, traded, extended, stopped, _stream("minutes"))
    progress("minutes", 1.0)
    return SimulatedMarket(
        names=names,
        sessions=sessions,
        listed_from=listed_from,
        listed_on=_listing_dates(sessions, listed_from),
        shares_outstanding=shares,
        float_shares=np.round(shares * _stream("float").uniform(0.55, 0.97, shares.size), -3),
        open=np.round(paths.open, 2),
        high=np.round(paths.high, 2),
        low=np.round(paths.low, 2),
        close=close,
        volume=volume,
        option_days=option_days,
        extended=extended,
        surfaces=surfaces,
        carry=carry,
        volatility=history,
        traded=traded,
        earnings=earnings,
        calendar=calendar,
        positions=interest.positions,
        snapshots=snapshots,
        multiplier=multiplier,
        adjusted=[
            adjusted_rows(i, planted[name.symbol], snapshot, carry[i], _stream(f"adjusted {snapshot.taken_at}"))
            for snapshot in snapshots
            for i, name in enumerate(names)
            if name.symbol in planted and planted[name.symbol].adjusted is not None
        ],
        rate=RATE,
        fundamentals=fundamentals,
        estimates=estimates,
        dividends=dividends,
        short_interest=short_interest,
        members=fund_weights(names, traits.capitalisation),
        minute_bars=minute_bars,
    )


def _activity(
    names: list[Listing], paths: Paths, shares: Floats, earnings: EarningsCalendar
) -> tuple[Floats, NDArray[np.int64]]:
    """Shares and option contracts traded per session; both rise with the size of the day's move."""
    rng = _stream("activity")
    count = len(names)
    base_shares = np.where(np.isfinite(shares), shares, 4e8 * np.exp(rng.normal(0, 0.7, count)))
    turnover = np.array([SIZES[n.size].turnover for n in names]) * np.exp(rng.normal(0, 0.3, count))
    base_options = np.array([SIZES[n.size].option_volume for n in names]) * np.exp(rng.normal(0, 0.75, count))
    previous = np.concatenate([paths.open[:, :1], paths.close[:, :-1]], axis=1)
    move = np.abs(np.log(paths.close / previous)) / np.sqrt(paths.variance.sum(axis=0) / 252)
    lift = 0.7 + 0.45 * np.minimum(move, 5.0)
    volume = base_shares[:, None] * turnover[:, None] * lift * np.exp(rng.normal(0, 0.22, move.shape))
    state = np.zeros(count)
    options = np.empty(move.shape)
    for t in range(move.shape[1]):
        state = 0.8 * state + 0.3 * rng.normal(size=count)
        options[:, t] = base_options * np.exp(state) * lift[:, t] ** 1.3
    recent = (earnings.reaction >= 0) & (earnings.reaction < SESSIONS)
    volume[earnings.company[recent], earnings.reaction[recent]] *= 1.8
    options[earnings.company[recent], earnings.reaction[recent]] *= 2.2
    volume[:, -1] *= 0.94
    volume = np.round(volume, -2)
    volume[[n.kind == "index" for n in names]] = np.nan
    return volume, np.round(options).astype(np.int64)


def _listing_dates(sessions: DateArray, listed_from: NDArray[np.int64]) -> DateArray:
    """Those that trade from the first session on were listed one to forty years earlier, on a Wednesday."""
    years = np.clip(_stream("listing").gamma(2.2, 6.0, listed_from.size), 1.0, 40.0)
    weeks = np.round(years * 52.18).astype(np.int64)
    wednesday = sessions[0] - (sessions[0].astype("datetime64[D]").astype(np.int64) + 1) % 7
    return np.where(listed_from > 0, sessions[listed_from], wednesday - 7 * weeks)


def _weeklies(names: list[Listing], planted: dict[str, Storyline]) -> NDArray[np.bool_]:
    drawn = _stream("weeklies").random(len(names)) < np.array([SIZES[n.size].weeklies for n in names])
    for i, name in enumerate(names):
        story = planted.get(name.symbol)
        if story and story.weeklies is not None:
            drawn[i] = story.weeklies
    return drawn


def listing_groups(names: list[Listing], weeklies: NDArray[np.bool_]) -> list[tuple[str, bool, NDArray[np.int64]]]:
    """Names that list the same expirations."""
    size = np.array([n.size for n in names])
    found = [(s, w, np.flatnonzero((size == s) & (weeklies == w))) for s in SIZES for w in (True, False)]
    return [row for row in found if row[2].size]
