"""Prices: market, sector and own factors with stochastic volatility, gaps, earnings jumps and fat tails."""

from __future__ import annotations

from collections.abc import Callable
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

    def __init__(self, factor: int, size: int, rng: np.random.Generator) -> None:
        self.persistence = PERSISTENCE[factor]
        self.spread = _VOL_OF_VOL[factor]
        self.leverage = _LEVERAGE[factor]
        self.rng = rng
        self.state = rng.normal(0.0, self.spread, size)

    def level(self) -> Floats:
        level: Floats = np.exp(self.state - self.spread**2)
        return level

    def advance(self, standard_return: Floats) -> None:
        shock = self.leverage * np.clip(standard_return, -3, 3)
        shock = shock + np.sqrt(1 - self.leverage**2) * self.rng.normal(size=self.state.size)
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


def simulate_paths(
    names: list[Listing],
    traits: Traits,
    sessions: int,
    earnings: EarningsCalendar,
    planted: dict[str, Storyline],
    rng: np.random.Generator,
    progress: Callable[[float], None],
) -> Paths:
    """Walk every name through all sessions, a quarter hour at a time.

    `sessions` includes `WARM_UP` sessions, which are dropped from the result; earnings are indexed with them. Funds and
    indices are the weighted returns of their members at every step. Highs and lows are exact draws of the extremes of a
    Brownian bridge between the steps.
    """
    companies = [name for name in names if name.kind == "stock"]
    n, total = len(companies), len(names)
    weights = fund_weights(names, traits.capitalisation)
    own_factor = np.array(
        [stretches(p.own_vol, sessions) if (p := planted.get(c.symbol)) else np.ones(sessions) for c in companies]
    )
    factors = [_LogVolatility(0, 1, rng), _LogVolatility(1, traits.sector.max() + 1, rng), _LogVolatility(2, n, rng)]
    loading = weights @ traits.beta
    in_sector = np.eye(traits.sector.max() + 1)[traits.sector] * traits.sector_beta[:, None]
    fund_sector = weights @ in_sector
    start = np.concatenate([traits.start_price, np.where(np.arange(total - n) >= total - n - 2, 2400.0, 60.0)])
    start[n:-2] *= np.exp(rng.normal(0.0, 0.4, total - n - 2))
    level = np.log(start)

    steered = {
        i: steered_way(story.steer, sessions)
        for i, c in enumerate(companies)
        if (story := planted.get(c.symbol)) and story.steer
    }
    way_start: dict[int, float] = {}

    out = np.empty((4, total, sessions))
    variance = np.empty((3, total, sessions))
    kept = np.empty((4, total, MINUTE_SESSIONS, STEPS))
    drift = 0.07 / 252
    for t in range(sessions):
        vol_market = MARKET_VOL * factors[0].level()
        vol_sector = SECTOR_VOL * factors[1].level()
        vol_own = traits.own_vol * factors[2].level() * own_factor[:, t]
        day = np.concatenate([_day_scale(rng, 1), _day_scale(rng, vol_sector.size), _day_scale(rng, n)])
        daily = np.concatenate([vol_market, vol_sector, vol_own]) * day / np.sqrt(252)
        share = np.full(STEPS + 1, (1 - OVERNIGHT_SHARE) / STEPS)
        share[0] = OVERNIGHT_SHARE
        moves = daily[:, None] * np.sqrt(share) * rng.normal(size=(daily.size, STEPS + 1))
        moves[0] = _lopsided(moves[0], daily[0], share)
        market, sector, own = moves[0], moves[1 : 1 + vol_sector.size], moves[1 + vol_sector.size :]
        stock = traits.beta[:, None] * market + (traits.sector_beta[:, None] * sector[traits.sector]) + own
        stock += drift * share
        newest = t == sessions - 1
        if newest:
            stock[:, -1] = 0.0
        hit = earnings.reaction == t
        stock[earnings.company[hit], 0] += earnings.jump[hit]
        frozen = np.zeros(total, dtype=bool)
        step_variance = (traits.beta * daily[0]) ** 2 + (
            traits.sector_beta * daily[1 : 1 + vol_sector.size][traits.sector]
        ) ** 2
        step_variance += daily[1 + vol_sector.size :] ** 2
        if newest:
            squares = (traits.beta * vol_market[0]) ** 2 + vol_own**2 + vol_sector[traits.sector] ** 2
            frozen[:n] = _told_today(stock, np.sqrt(squares / 252), companies, planted)
        for i, way in steered.items():
            if np.isfinite(way[t]):
                # Against the level before the first anchor, so that noise does not add up.
                way_start.setdefault(i, level[i])
                goal = way_start[i] + way[t] - level[i]
                stock[i] = _steered_session(stock[i], goal, planted[companies[i].symbol], newest)
        fund = weights @ stock
        fund_variance = (loading * daily[0]) ** 2 + fund_sector**2 @ daily[1 : 1 + vol_sector.size] ** 2
        fund_variance += weights**2 @ daily[1 + vol_sector.size :] ** 2
        walk = level[:, None] + np.cumsum(np.vstack([stock, fund]), axis=1)
        before, after = walk[:, :-1], walk[:, 1:]
        step = (np.concatenate([step_variance, fund_variance]) * (1 - OVERNIGHT_SHARE) / STEPS)[:, None]
        step = np.where(frozen[:, None] | (np.arange(STEPS) >= STEPS - newest), 0.0, step)
        top, bottom = _bridged(before, after, step, rng)
        out[0, :, t] = walk[:, 0]
        out[1, :, t] = top.max(axis=1)
        out[2, :, t] = bottom.min(axis=1)
        if t >= sessions - MINUTE_SESSIONS:
            kept[:, :, t - sessions + MINUTE_SESSIONS] = before, top, bottom, after
        out[3, :, t] = walk[:, -1]
        level = walk[:, -1]
        for factor, observed, sigma in (
            (factors[0], market.sum(keepdims=True), vol_market),
            (factors[1], sector.sum(axis=1), vol_sector),
            (factors[2], own.sum(axis=1), vol_own),
        ):
            factor.advance(observed / sigma * np.sqrt(252))
        upcoming = min(t + 1, sessions - 1)
        squares = [
            (MARKET_VOL * factors[0].level()) ** 2,
            (SECTOR_VOL * factors[1].level()) ** 2,
            (traits.own_vol * factors[2].level() * own_factor[:, upcoming]) ** 2,
        ]
        variance[:, :, t] = _by_factor(squares, traits, weights, loading, fund_sector)
        if t % 24 == 0:
            progress(t / sessions)
    squares = [
        np.array([MARKET_VOL**2]),
        np.full(fund_sector.shape[1], SECTOR_VOL**2),
        (traits.own_vol * np.median(own_factor, axis=1)) ** 2,
    ]
    long_variance = _by_factor(squares, traits, weights, loading, fund_sector)
    # Of what many names make up together the own parts even out, and the sectors where they are many.
    spread = np.tile(_VOL_OF_VOL[:, None], total)
    spread[2, n:] = 0.0
    spread[1, n:] *= (fund_sector**2).sum(axis=1) / fund_sector.sum(axis=1) ** 2
    opened, high, low, close = np.exp(out[:, :, WARM_UP:])
    return Paths(
        opened,
        high,
        low,
        close,
        variance=variance[:, :, WARM_UP:],
        long_variance=long_variance,
        spread=spread,
        steps=np.exp(kept),
    )


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


def _by_factor(squares: list[Floats], traits: Traits, weights: Floats, loading: Floats, fund_sector: Floats) -> Floats:
    market = np.concatenate([traits.beta**2, loading**2]) * squares[0]
    sector = np.concatenate([traits.sector_beta**2 * squares[1][traits.sector], fund_sector**2 @ squares[1]])
    own = np.concatenate([squares[2], weights**2 @ squares[2]])
    return np.stack([market, sector, own])
