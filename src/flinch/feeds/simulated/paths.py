"""Prices: market, sector and own factors with stochastic volatility, gaps, earnings jumps and fat tails."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.names import Listing, fund_weights
from flinch.feeds.simulated.storylines import Steering, Storyline, Stretch

Floats = NDArray[np.float64]

WARM_UP = 60
STEPS = 26
"""Quarter hours between 09:30 and 16:00; the newest session has one fewer, it is 15:45."""
MINUTE_SESSIONS = 10
"""Newest sessions that have minute bars."""
OVERNIGHT_SHARE = 0.25
HALTED_AT = 6
_DEGREES = 9
# Persistence of log volatility per session, and its spread, for market, sector and own factor.
PERSISTENCE = np.array([0.97, 0.97, 0.97])
_VOL_OF_VOL = np.array([0.47, 0.48, 0.60])
_LEVERAGE = np.array([-0.6, -0.4, -0.3])
_REACH = 2.5
"""Spreads that log volatility stays within: no name is restless without end."""
MARKET_VOL, SECTOR_VOL = 0.2, 0.16
_DRIFT = 0.07 / 252
_FALLS_LARGER = 0.2
"""The market's falls are so much larger than their volatility says and its rises so much smaller, with the mean left as it is:
on falling days names move more alike."""


class Traits(NamedTuple):
    """What stays the same about each company, shape (companies,)."""

    beta: Floats
    sector_beta: Floats
    own_vol: Floats
    sector: NDArray[np.int64]
    start_price: Floats
    capitalisation: Floats
    earnings_move: Floats


class Paths(NamedTuple):
    """Bars of all names (companies, funds, indices) and the variance they ran at, shape (names, sessions).

    `variance` has a leading axis of three: the squared volatility due to market, sector and own factor at each close;
    `long_variance` the same in the long run, shape (3, names), and `spread` how far log volatility strays, likewise. `steps` are
    the quarter hours of the last sessions: start, highest, lowest and end, shape (4, names, sessions with minute bars, quarter
    hours), price units.
    """

    open: Floats
    high: Floats
    low: Floats
    close: Floats
    variance: Floats
    long_variance: Floats
    spread: Floats
    steps: Floats
    own_factor: Floats

    def scaled(self, factor: Floats) -> Paths:
        """Every name's prices times its factor, shape (names,); its returns stay."""
        prices = {key: getattr(self, key) * factor[:, None] for key in ("open", "high", "low", "close")}
        return self._replace(**prices, steps=self.steps * factor[:, None, None])


def company_traits(companies: list[Listing], rng: np.random.Generator) -> Traits:
    """Draw the constants of every company by its size and sector."""
    count = len(companies)
    size = np.array([name.size for name in companies])
    sectors = sorted({name.sector for name in companies})
    sector = np.array([sectors.index(name.sector) for name in companies])
    lively = np.isin([name.sector for name in companies], ("Bio-Marine", "Optics & Orbital", "Signals & Software"))

    def by_size(large: float, medium: float, small: float) -> Floats:
        return np.select([size == "large", size == "medium"], [large, medium], small)

    own = by_size(0.16, 0.22, 0.31) * np.exp(rng.normal(0.0, 0.28, count)) * np.where(lively, 1.3, 1.0)
    price = by_size(95, 48, 26) * np.exp(rng.normal(0.0, 0.65, count))
    return Traits(
        beta=np.clip(rng.normal(1.0, 0.28, count), 0.3, 1.8),
        sector_beta=np.clip(rng.normal(1.0, 0.25, count), 0.3, 1.7),
        own_vol=np.clip(own, 0.10, 0.75),
        sector=sector,
        start_price=np.clip(price, 14.0, 900.0),
        capitalisation=by_size(24e9, 3.1e9, 0.42e9) * np.exp(rng.normal(0.0, 0.6, count)),
        earnings_move=np.clip(own * 0.23 * np.exp(rng.normal(0.0, 0.25, count)), 0.012, 0.2),
    )


def stretches(rows: list[Stretch], sessions: int) -> Floats:
    """A factor per session from stretches counted back from the newest."""
    factor = np.ones(sessions)
    for first, last, value in rows:
        factor[sessions + first : sessions + last + 1] *= value
    return factor


def steered_way(steering: Steering, sessions: int) -> Floats:
    """Log price that each close is led to, against the close before the first anchor; NaN before that anchor."""
    places = np.array([sessions + place for place, _ in steering.anchors])
    way = np.interp(np.arange(sessions), places, [level for _, level in steering.anchors])
    return np.where(np.arange(sessions) >= places[0], way, np.nan)


def _steered_session(steps: Floats, goal: float, story: Storyline, newest: bool) -> Floats:
    """A session's steps led to `goal`, the log move from the previous close, with a little of their own noise."""
    assert story.steer is not None
    last = STEPS - newest
    out = steps * story.steer.wiggle
    gap = story.today_gap if newest and story.today_gap is not None else OVERNIGHT_SHARE * goal
    out[0] += gap
    out[1 : last + 1] += (goal - gap) / last
    if newest and story.today_dip:
        # Down in the first hour and back up until now.
        out[1:5] -= story.today_dip / 4
        out[5 : last + 1] += story.today_dip / (last - 4)
    return out


class _LogVolatility:
    """Mean-reverting log volatility whose mean squared value is one, with leverage."""

    def __init__(self, factor: int, state: Floats) -> None:
        self.persistence = PERSISTENCE[factor]
        self.spread = _VOL_OF_VOL[factor]
        self.leverage = _LEVERAGE[factor]
        self.state = state

    @classmethod
    def drawn(cls, factor: int, size: int, rng: np.random.Generator) -> _LogVolatility:
        return cls(factor, rng.normal(0.0, _VOL_OF_VOL[factor], size))

    def level(self) -> Floats:
        level: Floats = np.exp(self.state - self.spread**2)
        return level

    def advance(self, standard_return: Floats, rng: np.random.Generator) -> None:
        shock = self.leverage * np.clip(standard_return, -3, 3)
        shock = shock + np.sqrt(1 - self.leverage**2) * rng.normal(size=self.state.size)
        state = self.persistence * self.state + self.spread * np.sqrt(1 - self.persistence**2) * shock
        self.state = np.clip(state, -_REACH * self.spread, _REACH * self.spread)


def _day_scale(rng: np.random.Generator, size: int) -> Floats:
    """Random volatility of a session around its expectation: returns become fat-tailed, variance stays."""
    scale: Floats = np.sqrt((_DEGREES - 2) / rng.chisquare(_DEGREES, size))
    return scale


def _lopsided(steps: Floats, deviation: float, share: Floats) -> Floats:
    """The market's steps of a day of that standard deviation, falls larger than rises of the same chance."""
    mean = _FALLS_LARGER * deviation * np.sqrt(2 / np.pi)
    factor = 1 + _FALLS_LARGER if steps.sum() < 0 else 1 - _FALLS_LARGER
    scale = 1 / np.sqrt(1 + _FALLS_LARGER**2 * (1 - 2 / np.pi))
    moved: Floats = scale * (factor * steps + mean * share)
    return moved


class Walked(NamedTuple):
    """One session's walk, log prices of all names: where each quarter hour begins and ends, its highest and lowest, shape (names,
    quarter hours), and the variance at its close by factor, shape (3, names)."""

    before: Floats
    after: Floats
    top: Floats
    bottom: Floats
    variance: Floats


Bend = Callable[[Floats, Floats, Floats], NDArray[np.bool_]]
"""Changes the companies' steps of a session in place, shape (companies, 1 + quarter hours), given the usual size of each one's
move and the log prices at the close before; returns whose price stands still."""


class Walk:
    """Where the log prices of all names are, and how restless each is: what a session begins with. Walking one changes it."""

    def __init__(self, names: list[Listing], traits: Traits, level: Floats, restless: list[Floats]) -> None:
        """`level` by name; `restless`: the state of log volatility of the market, the sectors, the companies."""
        self.traits, self.level = traits, level
        self.factors = [_LogVolatility(factor, state) for factor, state in enumerate(restless)]
        self.companies = traits.beta.size
        self._weights = fund_weights(names, traits.capitalisation)
        self._loading = self._weights @ traits.beta
        in_sector = np.eye(traits.sector.max() + 1)[traits.sector] * traits.sector_beta[:, None]
        self.fund_sector = self._weights @ in_sector

    @classmethod
    def begun(cls, names: list[Listing], traits: Traits, rng: np.random.Generator) -> Walk:
        """At the start prices."""
        n, total = traits.beta.size, len(names)
        restless = [
            _LogVolatility.drawn(factor, size, rng).state for factor, size in enumerate((1, traits.sector.max() + 1, n))
        ]
        start = np.concatenate([traits.start_price, np.where(np.arange(total - n) >= total - n - 2, 2400.0, 60.0)])
        start[n:-2] *= np.exp(rng.normal(0.0, 0.4, total - n - 2))
        return cls(names, traits, np.log(start), restless)

    def volatility(self, own_factor: Floats) -> tuple[Floats, Floats, Floats]:
        """What is expected of the session ahead, annualised: of the market, the sectors, and the companies' own."""
        return (
            MARKET_VOL * self.factors[0].level(),
            SECTOR_VOL * self.factors[1].level(),
            self.traits.own_vol * self.factors[2].level() * own_factor,
        )

    def session(
        self,
        rng: np.random.Generator,
        own_factor: Floats,
        next_factor: Floats,
        jumps: tuple[NDArray[np.int64], Floats],
        bend: Bend | None = None,
        *,
        unfinished: bool = False,
    ) -> Walked:
        """Walk one session.

        Parameters
        ----------
        rng
            Of this session.
        own_factor, next_factor
            How much more restless each company is than by itself, in this session and after it, shape (companies,).
        jumps
            Companies that reported, and the log return that follows at the open.
        bend
            What is told of the session beforehand.
        unfinished
            Whether its last quarter hour is still ahead.
        """
        traits, n, total = self.traits, self.companies, self.level.size
        vol_market, vol_sector, vol_own = self.volatility(own_factor)
        sectors = vol_sector.size
        day = np.concatenate([_day_scale(rng, 1), _day_scale(rng, sectors), _day_scale(rng, n)])
        daily = np.concatenate([vol_market, vol_sector, vol_own]) * day / np.sqrt(252)
        share = np.full(STEPS + 1, (1 - OVERNIGHT_SHARE) / STEPS)
        share[0] = OVERNIGHT_SHARE
        moves = daily[:, None] * np.sqrt(share) * rng.normal(size=(daily.size, STEPS + 1))
        moves[0] = _lopsided(moves[0], daily[0], share)
        market, sector, own = moves[0], moves[1 : 1 + sectors], moves[1 + sectors :]
        stock = traits.beta[:, None] * market + (traits.sector_beta[:, None] * sector[traits.sector]) + own
        stock += _DRIFT * share
        if unfinished:
            stock[:, -1] = 0.0
        company, jump = jumps
        stock[company, 0] += jump
        frozen = np.zeros(total, dtype=bool)
        if bend is not None:
            squares = (traits.beta * vol_market[0]) ** 2 + vol_own**2 + vol_sector[traits.sector] ** 2
            frozen[:n] = bend(stock, np.sqrt(squares / 252), self.level)
        walk = self.level[:, None] + np.cumsum(np.vstack([stock, self._weights @ stock]), axis=1)
        before, after = walk[:, :-1], walk[:, 1:]
        step = (self._variance_of(daily) * (1 - OVERNIGHT_SHARE) / STEPS)[:, None]
        step = np.where(frozen[:, None] | (np.arange(STEPS) >= STEPS - unfinished), 0.0, step)
        top, bottom = _bridged(before, after, step, rng)
        self.level = walk[:, -1]
        for factor, observed, sigma in (
            (self.factors[0], market.sum(keepdims=True), vol_market),
            (self.factors[1], sector.sum(axis=1), vol_sector),
            (self.factors[2], own.sum(axis=1), vol_own),
        ):
            factor.advance(observed / sigma * np.sqrt(252), rng)
        return Walked(before, after, top, bottom, self.variance(next_factor))

    def quarter(self, rng: np.random.Generator, own_factor: Floats, still: NDArray[np.bool_]) -> Walked:
        """Walk the quarter hour that an unfinished session left, as `session` does, shape (names, 1); `still`: companies that
        do not trade. How restless names are does not change by it."""
        traits = self.traits
        share = (1 - OVERNIGHT_SHARE) / STEPS
        daily = np.concatenate(self.volatility(own_factor)) / np.sqrt(252)
        moves = daily * np.sqrt(share) * rng.normal(size=daily.size)
        sectors = self.factors[1].state.size
        market, sector, own = moves[0], moves[1 : 1 + sectors], moves[1 + sectors :]
        stock = traits.beta * market + traits.sector_beta * sector[traits.sector] + own + _DRIFT * share
        stock[still] = 0.0
        before = self.level[:, None]
        after = before + np.concatenate([stock, self._weights @ stock])[:, None]
        step = np.where(np.append(still, np.zeros(self.level.size - still.size, bool)), 0.0, self._variance_of(daily))
        top, bottom = _bridged(before, after, share * step[:, None], rng)
        self.level = after[:, 0]
        return Walked(before, after, top, bottom, self.variance(own_factor))

    def variance(self, own_factor: Floats) -> Floats:
        """Squared volatility of each name, annualised, by factor, shape (3, names)."""
        return self.by_factor([vol**2 for vol in self.volatility(own_factor)])

    def by_factor(self, squares: list[Floats]) -> Floats:
        """Squared volatility of each name due to market, sectors and companies whose own are `squares`, shape (3, names)."""
        traits, weights = self.traits, self._weights
        market = np.concatenate([traits.beta**2, self._loading**2]) * squares[0]
        sector = np.concatenate([traits.sector_beta**2 * squares[1][traits.sector], self.fund_sector**2 @ squares[1]])
        own = np.concatenate([squares[2], weights**2 @ squares[2]])
        return np.stack([market, sector, own])

    def _variance_of(self, daily: Floats) -> Floats:
        """Squared volatility of a day by name, of the day's market, sectors and companies."""
        traits, sectors = self.traits, self.factors[1].state.size
        stock = (traits.beta * daily[0]) ** 2 + (traits.sector_beta * daily[1 : 1 + sectors][traits.sector]) ** 2
        stock += daily[1 + sectors :] ** 2
        fund = (self._loading * daily[0]) ** 2 + self.fund_sector**2 @ daily[1 : 1 + sectors] ** 2
        fund += self._weights**2 @ daily[1 + sectors :] ** 2
        return np.concatenate([stock, fund])


def simulate_paths(
    names: list[Listing],
    traits: Traits,
    sessions: int,
    earnings: EarningsCalendar,
    planted: dict[str, Storyline],
    rng: np.random.Generator,
    progress: Callable[[float], None],
) -> tuple[Paths, Walk]:
    """Walk every name through all sessions, a quarter hour at a time; and where that ends.

    `sessions` includes `WARM_UP` sessions, which are dropped from the result; earnings are indexed with them. Funds and
    indices are the weighted returns of their members at every step. Highs and lows are exact draws of the extremes of a
    Brownian bridge between the steps.
    """
    companies = [name for name in names if name.kind == "stock"]
    n, total = len(companies), len(names)
    own_factor = np.array(
        [stretches(p.own_vol, sessions) if (p := planted.get(c.symbol)) else np.ones(sessions) for c in companies]
    )
    walk = Walk.begun(names, traits, rng)
    steered = {
        i: steered_way(story.steer, sessions)
        for i, c in enumerate(companies)
        if (story := planted.get(c.symbol)) and story.steer
    }
    way_start: dict[int, float] = {}

    def bent(t: int, stock: Floats, expected: Floats, level: Floats) -> NDArray[np.bool_]:
        newest = t == sessions - 1
        halted = _told_today(stock, expected, companies, planted) if newest else np.zeros(n, dtype=bool)
        for i, way in steered.items():
            if np.isfinite(way[t]):
                # Against the level before the first anchor, so that noise does not add up.
                way_start.setdefault(i, level[i])
                goal = way_start[i] + way[t] - level[i]
                stock[i] = _steered_session(stock[i], goal, planted[companies[i].symbol], newest)
        return halted

    out = np.empty((4, total, sessions))
    variance = np.empty((3, total, sessions))
    kept = np.empty((4, total, MINUTE_SESSIONS, STEPS))
    for t in range(sessions):
        hit = earnings.reaction == t
        walked = walk.session(
            rng,
            own_factor[:, t],
            own_factor[:, min(t + 1, sessions - 1)],
            (earnings.company[hit], earnings.jump[hit]),
            partial(bent, t),
            unfinished=t == sessions - 1,
        )
        out[:, :, t] = (
            walked.before[:, 0], walked.top.max(axis=1), walked.bottom.min(axis=1), walked.after[:, -1],
        )  # fmt: skip
        if t >= sessions - MINUTE_SESSIONS:
            kept[:, :, t - sessions + MINUTE_SESSIONS] = walked.before, walked.top, walked.bottom, walked.after
        variance[:, :, t] = walked.variance
        if t % 24 == 0:
            progress(t / sessions)
    squares = [
        np.array([MARKET_VOL**2]),
        np.full(walk.fund_sector.shape[1], SECTOR_VOL**2),
        (traits.own_vol * np.median(own_factor, axis=1)) ** 2,
    ]
    # Of what many names make up together the own parts even out, and the sectors where they are many.
    spread = np.tile(_VOL_OF_VOL[:, None], total)
    spread[2, n:] = 0.0
    spread[1, n:] *= (walk.fund_sector**2).sum(axis=1) / walk.fund_sector.sum(axis=1) ** 2
    opened, high, low, close = np.exp(out[:, :, WARM_UP:])
    paths = Paths(
        opened,
        high,
        low,
        close,
        variance=variance[:, :, WARM_UP:],
        long_variance=walk.by_factor(squares),
        spread=spread,
        steps=np.exp(kept),
        own_factor=own_factor[:, -1],
    )
    return paths, walk


def _told_today(
    stock: Floats, expected: Floats, companies: list[Listing], planted: dict[str, Storyline]
) -> NDArray[np.bool_]:
    """Bend the newest session's steps to what storylines tell of it, in place; returns who is halted. `expected` is the usual
    size of each company's move."""
    halted = np.zeros(len(companies), dtype=bool)
    for i, company in enumerate(companies):
        story = planted.get(company.symbol)
        if story and story.halted:
            stock[i, HALTED_AT:] = 0.0
            halted[i] = True
        if story and story.today_in_deviations is not None:
            gap = story.today_in_deviations * expected[i] - stock[i].sum()
            stock[i, 0] += 0.4 * gap
            stock[i, 1:-1] += 0.6 * gap / (STEPS - 1)
    return halted


def _bridged(before: Floats, after: Floats, variance: Floats, rng: np.random.Generator) -> tuple[Floats, Floats]:
    """Highest and lowest between two points of a walk: exact draws of the extremes of a Brownian bridge."""
    chance = -2.0 * variance * np.log(rng.random((2, *before.shape)))
    reach = np.sqrt((after - before) ** 2 + chance)
    return 0.5 * (before + after + reach[0]), 0.5 * (before + after - reach[1])
