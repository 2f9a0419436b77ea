"""The whole demo market, stage by stage."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.feeds.simulated.activity import make_activity
from flinch.feeds.simulated.calendar import AS_OF, SESSIONS, DateArray, market_sessions, sessions_after, since_open
from flinch.feeds.simulated.chains import Chain, Snapshot
from flinch.feeds.simulated.earnings import EarningsCalendar, make_earnings
from flinch.feeds.simulated.extended import ExtendedHours, make_extended
from flinch.feeds.simulated.facts import make_dividends, make_estimates, make_fundamentals, make_short_interest
from flinch.feeds.simulated.flow import PLANTED_AHEAD, PLANTED_FROM, plant_informed
from flinch.feeds.simulated.ground import Ground
from flinch.feeds.simulated.interest import CLOSES_KEPT, RATE, Expiries, Fitted, Interest, make_open_interest
from flinch.feeds.simulated.intraday import make_minute_bars, minute_closes
from flinch.feeds.simulated.names import SIZES, Listing, fund_weights, listing_groups, listings
from flinch.feeds.simulated.newswire import make_news
from flinch.feeds.simulated.onward import KEPT_CLOSES, Onward, from_calendar
from flinch.feeds.simulated.option_days import make_option_days
from flinch.feeds.simulated.paths import (
    HALTED_AT,
    MINUTE_SESSIONS,
    STEPS,
    WARM_UP,
    Traits,
    company_traits,
    simulate_paths,
    stretches,
)
from flinch.feeds.simulated.prints import PRINT_SESSIONS, Days, make_prints
from flinch.feeds.simulated.snapshots import AdjustedRows, adjusted_rows, moments, take_snapshots
from flinch.feeds.simulated.storylines import PlantedInterest, PlantedTrade, Storyline, storylines
from flinch.feeds.simulated.surfaces import Smile, premium_history, smile_history
from flinch.feeds.simulated.tape import TAPE_SESSIONS, make_tape
from flinch.feeds.simulated.volatility import PastSurfaces, make_volatility_history, priced_closes

Floats = NDArray[np.float64]
SEED = 20260909
_AHEAD = 400
_LEAST_CLOSE = 6.0


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
    flow: dict[str, Floats]  # by column of the store: what the option trades of every session came to
    snapshots: list[Snapshot]  # chains at the newest closes and during the newest session, in order
    multiplier: Floats  # shares or index units a contract, shape (names,)
    adjusted: list[AdjustedRows]  # contracts apart from the standard ones
    rate: float
    fundamentals: pl.DataFrame
    estimates: pl.DataFrame
    dividends: pl.DataFrame
    short_interest: pl.DataFrame
    news: pl.DataFrame  # headlines until the newest session's end and after it, `name` -1 for those of none
    members: Floats  # weights of companies in funds and indices, shape (funds and indices, companies)
    minute_bars: pl.DataFrame
    tape: pl.DataFrame  # option trades of the newest sessions, fill by fill
    pairs: pl.DataFrame  # which of them are rolls, or packages that nobody flags
    prints: pl.DataFrame  # off-exchange prints of the newest sessions
    onward: Onward  # what the exchange goes on with

    @property
    def chain(self) -> Chain:
        """The newest snapshot's contracts."""
        return self.snapshots[-1].chain

    @property
    def expiries(self) -> Expiries:
        """The newest snapshot's expirations, with the true volatility at the money."""
        return self.snapshots[-1].expiries


Progress = Callable[[str, float], None]
_Contract = TypeVar("_Contract", PlantedInterest, PlantedTrade)


class Simulation:
    """A market in the making: first what the first page shows, and the rest after it.

    Parameters
    ----------
    names
        How many it has; those of the demo market, 502, when left out. More are further companies, fewer are those of the
        planted cases and some others.
    seed
        What everything follows from.
    planted
        Whether the planted cases are in it.
    """

    def __init__(self, names: int | None = None, *, seed: int = SEED, planted: bool = True) -> None:
        self._seed = seed
        self._stories = {story.symbol: story for story in storylines()} if planted else {}
        self.names = listings(names, first=self._stories)
        self.companies = sum(name.kind == "stock" for name in self.names)
        self.sessions = market_sessions()

    def _stream(self, label: str) -> np.random.Generator:
        """A stream of its own for each part, so that a new part does not change the old ones."""
        return np.random.default_rng([self._seed, zlib.crc32(label.encode())])

    def first(self, progress: Progress) -> SimulatedMarket:
        """The market with the newest snapshot and the close before, and without what the sessions' chains say about exposure,
        past surfaces among it, and the minutes."""
        ground, traits, shares, volume = self._ground(progress)
        progress("options", 0.0)
        closes = priced_closes(ground)
        with ThreadPoolExecutor(1) as beside:
            history = beside.submit(make_volatility_history, ground, closes, self._stream("volatility noise"))
            interest = make_open_interest(
                ground,
                closes,
                self._stream("open interest"),
                lambda share: progress("options", share),
                summarised=False,
            )
            volatility, surfaces = history.result()
        ground = ground._replace(planted=_at_listed(ground, interest.fitted))
        progress("options", 1.0)
        progress("chains", 0.0)
        all_moments = moments(interest.books)
        snapshots = take_snapshots(
            ground,
            [all_moments[CLOSES_KEPT - 1], all_moments[-1]],
            self._stream,
            lambda share: progress("chains", share),
        )
        self._ground_made, self._closes, self._moments = ground, closes, all_moments

        progress("facts", 0.0)
        names, planted, close, calendar, sessions = (
            self.names,
            ground.planted,
            ground.close,
            ground.calendar,
            self.sessions,
        )
        listed_from, traded = self._trading(planted)
        option_days = interest.totals | make_option_days(
            names, ground.groups, sessions, volatility["iv30"], snapshots[-1], self._stream("option days")
        )
        opened = np.round(ground.paths.open, 2)
        extended = make_extended(names, opened, close, volume, ground.earnings, planted, self._stream("extended"))
        fundamentals = make_fundamentals(
            names, close, calendar, SESSIONS, ground.earnings, planted, self._stream("fundamentals")
        )
        market = SimulatedMarket(
            names=names,
            sessions=sessions,
            listed_from=listed_from,
            listed_on=_listing_dates(sessions, listed_from, self._stream("listing")),
            shares_outstanding=shares,
            float_shares=np.round(shares * self._stream("float").uniform(0.55, 0.97, shares.size), -3),
            open=opened,
            high=np.round(ground.paths.high, 2),
            low=np.round(ground.paths.low, 2),
            close=close,
            volume=volume,
            option_days=option_days,
            extended=extended,
            surfaces=surfaces,
            carry=ground.carry,
            volatility=volatility,
            traded=traded,
            earnings=ground.earnings,
            calendar=calendar,
            positions={},
            flow={},
            snapshots=snapshots,
            multiplier=ground.multiplier,
            adjusted=self._adjusted(snapshots),
            rate=RATE,
            fundamentals=fundamentals,
            estimates=make_estimates(names, close, fundamentals, calendar, planted, self._stream("estimates")),
            dividends=make_dividends(names, close, ground.carry, calendar, SESSIONS, self._stream("dividends")),
            short_interest=make_short_interest(names, close, shares, calendar, planted, self._stream("short interest")),
            news=make_news(names, sessions, close, traded, ground.earnings, self._stream("news")),
            members=fund_weights(names, traits.capitalisation),
            minute_bars=pl.DataFrame(),
            tape=pl.DataFrame(),
            pairs=pl.DataFrame(),
            prints=pl.DataFrame(),
            onward=self._onward(
                interest.ended,
                snapshots[-1],
                [
                    opened[:, -1],
                    *(np.round(extreme[:, -1], 2) for extreme in ground.paths[1:3]),
                    close[:, -1],
                    volume[:, -1],
                ],
            ),
        )
        progress("facts", 1.0)
        return market

    def whole(self, first: SimulatedMarket, progress: Progress) -> SimulatedMarket:
        """What `first` left out, beside what it made."""
        ground = self._ground_made
        progress("exposure", 0.0)
        interest = make_open_interest(
            ground,
            self._closes,
            self._stream("open interest"),
            lambda share: progress("exposure", share),
            summarised=True,
        )
        progress("exposure", 1.0)
        progress("quotes", 0.0)
        before, yesterday, during = (
            self._moments[: CLOSES_KEPT - 1], first.snapshots[0], self._moments[CLOSES_KEPT:-1],
        )  # fmt: skip
        newest = first.snapshots[-1]
        taken = take_snapshots(
            ground, [*before, *during], self._stream, lambda share: progress("quotes", share), newest
        )
        snapshots = [*taken[: len(before)], yesterday, *taken[len(before) :], newest]
        progress("minutes", 0.0)
        until = np.where(ground.halted, HALTED_AT - 1, STEPS - 1) * 15
        minutes = make_minute_bars(
            self.names, ground.paths.steps, self.sessions, first.volume, first.traded, first.extended, until,
            self._stream("minutes"),
        )  # fmt: skip
        progress("minutes", 1.0)
        progress("tape", 0.0)
        told = [snapshot for snapshot in snapshots if snapshot.session >= SESSIONS - TAPE_SESSIONS]
        minute_prices = minute_closes(minutes, self.sessions[-MINUTE_SESSIONS:], ground.close)
        tape, pairs = make_tape(ground, told, minute_prices, self._stream("tape"))
        progress("tape", 1.0)
        progress("prints", 0.0)
        prints = self._prints(first, minute_prices)
        progress("prints", 1.0)
        return replace(
            first,
            tape=tape,
            pairs=pairs,
            prints=prints,
            positions=interest.positions,
            flow=self._flow(interest.flow, first),
            snapshots=snapshots,
            adjusted=self._adjusted(snapshots),
            minute_bars=minutes,
        )

    def _prints(self, first: SimulatedMarket, minute_prices: dict[int, Floats]) -> pl.DataFrame:
        bars = (first.open, first.high, first.low, first.close, first.volume)
        open_, high, low, close, volume = (values[:, -PRINT_SESSIONS:] for values in bars)
        begin, ground = SESSIONS - PRINT_SESSIONS, self._ground_made
        prices = {session - begin: values for session, values in minute_prices.items()}
        ends = np.where(ground.halted, 15 * 60_000 * (HALTED_AT - 1), since_open(AS_OF))
        days = Days(open_, high, low, close, volume, first.traded[:, -PRINT_SESSIONS:], ends)
        return make_prints(
            self.names, self.sessions[-PRINT_SESSIONS:], days, prices, ground.planted, self._stream("prints")
        )

    def _flow(self, sums: dict[str, Floats], first: SimulatedMarket) -> dict[str, Floats]:
        small = np.flatnonzero([name.kind == "stock" and name.size != "large" for name in self.names])
        sessions = range(PLANTED_FROM, SESSIONS - TAPE_SESSIONS - PLANTED_AHEAD)
        plant_informed(sums, first.open, first.close, small, sessions, self._stream("informed"))
        return sums

    def _ground(self, progress: Progress) -> tuple[Ground, Traits, Floats, Floats]:
        """Prices, what options ask over them, and what is planted; the companies' traits, shares outstanding, shares traded."""
        progress("names", 0.0)
        names = self.names
        companies = names[: self.companies]
        planted = self._stories
        traits = company_traits(companies, self._stream("traits"))
        calendar = np.concatenate([market_sessions(WARM_UP), sessions_after(_AHEAD)])
        earnings = make_earnings(
            calendar, [c.symbol for c in companies], traits.earnings_move, planted, self._stream("earnings")
        )
        progress("names", 1.0)
        paths, walk = simulate_paths(
            names,
            traits,
            SESSIONS + WARM_UP,
            earnings,
            planted,
            self._stream("paths 17"),
            lambda share: progress("prices", share),
        )
        # Who fell so far had its shares put together.
        factor = np.maximum(_LEAST_CLOSE / paths.close.min(axis=1), 1.0)
        for i, name in enumerate(names):
            if name.symbol in planted and (price := planted[name.symbol].price) is not None:
                factor[i] = price / paths.close[i, -1]
        paths = paths.scaled(factor)
        walk.level = walk.level + np.log(factor)
        earnings = earnings._replace(announced=earnings.announced - WARM_UP, reaction=earnings.reaction - WARM_UP)
        shares = np.full(len(names), np.nan)
        shares[: self.companies] = np.round(traits.capitalisation / (traits.start_price * factor[: self.companies]), -3)
        volume, option_volume, self._activity = make_activity(names, paths, shares, earnings, self._stream("activity"))
        premium, self._premium = premium_history(
            SESSIONS, np.array([n.kind != "stock" for n in names]), self._stream("premium")
        )
        smiles, self._smiles = smile_history(len(names), SESSIONS, self._stream("smiles"))
        drawn = self._stream("carry").choice([0.0, 0.0, 0.012, 0.025, 0.04], len(names))
        carry = np.where([n.kind == "stock" for n in names], drawn, 0.015)
        multiplier, halted = np.full(len(names), 100.0), np.zeros(len(names), dtype=bool)
        for i, name in enumerate(names):
            if (story := planted.get(name.symbol)) is None:
                continue
            volume[i] = np.round(volume[i] * stretches(story.volume, SESSIONS), -2)
            option_volume[i] = np.round(option_volume[i] * stretches(story.option_volume, SESSIONS)).astype(np.int64)
            premium[i] *= stretches(story.premium, SESSIONS)
            carry[i] = carry[i] if story.carry is None else story.carry
            multiplier[i] = multiplier[i] if story.multiplier is None else story.multiplier
            halted[i] = story.halted
        ground = Ground(
            names=names,
            planted=planted,
            groups=listing_groups(names, _weeklies(names, planted, self._stream("weeklies"))),
            calendar=calendar[WARM_UP:],
            paths=paths,
            close=np.round(paths.close, 2),
            premium=premium,
            smiles=smiles,
            earnings=earnings,
            option_volume=option_volume,
            carry=carry,
            multiplier=multiplier,
            halted=halted,
        )
        self._walk = walk
        progress("prices", 1.0)
        return ground, traits, shares, volume

    def _onward(self, interest: Interest, newest: Snapshot, bar: list[Floats]) -> Onward:
        """What the exchange goes on with; `bar` is open, high, low, close and volume of the newest session."""
        ground, last = self._ground_made, SESSIONS - 1
        weekly = np.zeros(len(self.names), dtype=bool)
        for _, weeklies, members in ground.groups:
            weekly[members] = weeklies
        return Onward(
            seed=self._seed,
            planted=bool(self._stories),
            names=self.names,
            session=self.sessions[-1],
            unfinished=True,
            walk=self._walk,
            own_factor=ground.paths.own_factor,
            activity=self._activity,
            premium=self._premium,
            smiles=self._smiles,
            interest=interest,
            volume=newest.chain.volume.reshape(-1, 2).T.copy(),
            bar=np.stack(bar),
            variance=ground.paths.variance[:, :, last],
            long_variance=ground.paths.long_variance,
            spread=ground.paths.spread,
            premium_now=ground.premium[:, last],
            smile_now=Smile(ground.smiles.rho[:, last], ground.smiles.eta[:, last]),
            carry=ground.carry,
            multiplier=ground.multiplier,
            halted=ground.halted,
            weekly=weekly,
            earnings=from_calendar(ground.earnings, self.sessions[0]),
            closes=ground.close[:, -KEPT_CLOSES:],
        )

    def _trading(self, planted: dict[str, Storyline]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """The session from which each name trades, and where it did, names x sessions."""
        traded = np.ones((len(self.names), SESSIONS), dtype=bool)
        listed_from = np.zeros(len(self.names), dtype=np.int64)
        for i, name in enumerate(self.names):
            story = planted.get(name.symbol)
            if story and story.listed is not None:
                listed_from[i] = SESSIONS + story.listed
                traded[i, : listed_from[i]] = False
            for first, last in story.missing if story else []:
                traded[i, SESSIONS + first : SESSIONS + last + 1] = False
        return listed_from, traded

    def _adjusted(self, snapshots: list[Snapshot]) -> list[AdjustedRows]:
        ground = self._ground_made
        return [
            adjusted_rows(
                i, ground.planted[name.symbol], snapshot, ground.carry[i], self._stream(f"adjusted {snapshot.taken_at}")
            )
            for snapshot in snapshots
            for i, name in enumerate(self.names)
            if name.symbol in ground.planted and ground.planted[name.symbol].adjusted is not None
        ]


def _at_listed(ground: Ground, fitted: Fitted) -> dict[str, Storyline]:
    """The planted cases with the contracts that are listed."""
    row = {name.symbol: i for i, name in enumerate(ground.names)}

    def put(symbol: str, contract: _Contract) -> _Contract:
        expiration, strike = fitted[row[symbol], contract.expiration, contract.strike]
        return contract.model_copy(update={"expiration": expiration, "strike": strike})

    return {
        symbol: story.model_copy(
            update={
                "interest": [put(symbol, one) for one in story.interest],
                "trades": [put(symbol, one) for one in story.trades],
            }
        )
        for symbol, story in ground.planted.items()
        if symbol in row
    }


def simulate(
    progress: Progress = lambda stage, share: None, names: int | None = None, *, seed: int = SEED, planted: bool = True
) -> SimulatedMarket:
    """Make the demo market, or another by its laws.

    Parameters
    ----------
    progress
        Called with the stage's name and the share of it that is done, 0 to 1.
    names, seed, planted
        As `Simulation` takes them.

    Returns
    -------
    `SimulatedMarket`, the same on every machine: one seed, no clock.
    """
    simulation = Simulation(names, seed=seed, planted=planted)
    return simulation.whole(simulation.first(progress), progress)


def _listing_dates(sessions: DateArray, listed_from: NDArray[np.int64], rng: np.random.Generator) -> DateArray:
    """Those that trade from the first session on were listed one to forty years earlier, on a Wednesday."""
    years = np.clip(rng.gamma(2.2, 6.0, listed_from.size), 1.0, 40.0)
    weeks = np.round(years * 52.18).astype(np.int64)
    wednesday = sessions[0] - (sessions[0].astype("datetime64[D]").astype(np.int64) + 1) % 7
    return np.where(listed_from > 0, sessions[listed_from], wednesday - 7 * weeks)


def _weeklies(names: list[Listing], planted: dict[str, Storyline], rng: np.random.Generator) -> NDArray[np.bool_]:
    drawn = rng.random(len(names)) < np.array([SIZES[n.size].weeklies for n in names])
    for i, name in enumerate(names):
        story = planted.get(name.symbol)
        if story and story.weeklies is not None:
            drawn[i] = story.weeklies
    return drawn
