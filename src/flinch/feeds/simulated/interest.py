"""Listed contracts through the sessions: strikes come and go, trades open and close, and what that means for exposure."""

from __future__ import annotations

import datetime as dt
import math
import os
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import group_bounds, group_sums, over_groups, run_in_chunks
from flinch.core.calendar import years_to_close
from flinch.core.compiled import njit
from flinch.core.flow import SUMS
from flinch.core.gamma import Positions, StrikeRows, summarise_positions
from flinch.core.moves import cycle_ends, cycles
from flinch.feeds.simulated.calendar import AS_OF, SESSIONS, DateArray
from flinch.feeds.simulated.flow import DECISION_CONTRACTS, Stocks, Traded, session_flow
from flinch.feeds.simulated.ground import Ground, trades_of
from flinch.feeds.simulated.names import SIZES, Listing
from flinch.feeds.simulated.storylines import PlantedInterest, PlantedTrade, Storyline
from flinch.feeds.simulated.volatility import Priced, vols_at

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
RATE = 0.03
CLOSES_KEPT = 6
"""Past sessions whose chains are kept as they closed."""
_AHEAD = 4
_NICE = np.array([0.5, 1, 2.5, 5, 10, 25, 50, 100])
_HELD_SESSIONS = 14.0
"""Open interest comes to about so many sessions of volume."""
_FIRST_DAY = np.datetime64("1970-01-01")


class Expiries(NamedTuple):
    """Listed expiries of all names, shape (expiries,), ordered by name and date, with the true volatility at the money."""

    name: Whole
    expiration: DateArray
    years: Floats
    vol: Floats


Fitted = dict[tuple[int, dt.date, float], tuple[dt.date, float]]
"""Of a planted contract (name, expiration, strike) the listed one, by expiration and strike, that stands for it: itself in the
market that the planted cases were written for, the nearest in another."""


class Book(NamedTuple):
    """One session's contracts, a call and a put a row, shape (rows,), ordered by name, expiration, strike. Interest is that of
    the morning, volume that of the whole session."""

    session: int
    expiries: Expiries
    expiry: Whole
    strike: Floats
    call_volume: Whole
    put_volume: Whole
    call_interest: Whole
    put_interest: Whole


class OpenInterest(NamedTuple):
    """What the walk through all sessions leaves: by column of the store arrays names x sessions (`positions` and `flow` are empty
    when they were not summarised), the newest books, at which listed contracts the planted ones are, and what the session after
    begins with."""

    positions: dict[str, Floats]
    flow: dict[str, Floats]
    totals: dict[str, Floats]
    books: list[Book]
    fitted: Fitted
    ended: Interest


class Listed(NamedTuple):
    """Expirations with their strikes: step * low to step * high, all shape (expirations,)."""

    key: Whole
    step: Floats
    low: Whole
    high: Whole

    @property
    def strikes(self) -> Whole:
        return self.high - self.low + 1


def _listing(old: Listed | None, expiries: Expiries, spot: Floats, share: Floats, most: Whole) -> Listed:
    """Strikes of a session: a new expiration gets round ones out to three and a half deviations, an old one keeps what it has
    and gets more where the price comes near its end, or has become small for their distance."""
    key = expiries.name * 100_000 + (expiries.expiration - _FIRST_DAY).astype(np.int64)
    place = spot[expiries.name]
    wide = np.where(expiries.years < 0.25, 1.0, 2.0)
    wanted = share[expiries.name] * wide * place
    step = _NICE[np.abs(np.log(_NICE / wanted[:, None])).argmin(axis=1)]
    if old is not None:
        was = np.minimum(np.searchsorted(old.key, key), old.key.size - 1)
        kept = old.key[was] == key
        # A name that fell gets finer strikes between the old ones.
        times = np.round(old.step[was] / step)
        finer = kept & (times >= 2) & np.isclose(times * step, old.step[was])
        times = np.where(finer, times, 1).astype(np.int64)
        step = np.where(kept & ~finer, old.step[was], step)
    deviation = expiries.vol * np.sqrt(np.maximum(expiries.years, 0.0))
    reach = np.clip(np.ceil(3.5 * deviation * place / step), 4, most[expiries.name])
    centre = np.round(place / step)
    if old is not None:
        reach = np.where(kept, np.ceil(0.6 * reach), reach)
    lowest = np.floor(0.3 * place / step) + 1
    low = np.maximum(centre - reach, lowest).astype(np.int64)
    high = np.maximum(centre + reach, low + 1).astype(np.int64)
    if old is not None:
        low = np.where(kept, np.minimum(low, times * old.low[was]), low)
        high = np.where(kept, np.maximum(high, times * old.high[was]), high)
    return Listed(key, step, low, high)


def _carried(old: Listed, new: Listed, *values: Floats) -> list[Floats]:
    """What old rows had, at their place among the new ones; NaN for those that were not listed."""
    to = np.minimum(np.searchsorted(new.key, old.key), new.key.size - 1)
    stays = new.key[to] == old.key
    times = np.where(stays, np.round(old.step / new.step[to]), 1).astype(np.int64)
    start = (np.cumsum(new.strikes) - new.strikes)[to] + times * old.low - new.low[to]
    out = [np.full(int(new.strikes.sum()), np.nan) for _ in values]
    for before, after in zip(values, out, strict=True):
        _carry(stays, start, times, old.strikes, before, after)
    return out


@njit(cache=True, nogil=True)
def _carry(stays: Any, start: Whole, times: Whole, strikes: Whole, before: Floats, after: Floats) -> None:
    """Of each expiration that stays, its strikes' values to `start` and on, in steps of `times`."""
    at = 0
    for e in range(strikes.size):
        if stays[e]:
            for i in range(strikes[e]):
                after[start[e] + i * times[e]] = before[at + i]
        at += strikes[e]


class _Leanings(NamedTuple):
    """Of each expiration: where its rows begin, step and lowest number of its strikes, forward, years, volatility at the money,
    how much is held until then, how much its call and put are traded and held (2, expirations), and its smile."""

    bounds: Whole
    step: Floats
    low: Whole
    forward: Floats
    years: Floats
    atm: Floats
    held_until: Floats
    trades: Floats
    holds: Floats
    rho: Floats
    eta: Floats


class _Weighed(NamedTuple):
    """Of each row: strike, volatility, and how much is expected to be traded and held of its call and put, shape (2, rows)."""

    strike: Floats
    vol: Floats
    expected: Floats
    target: Floats


@njit(cache=True, nogil=True, error_model="numpy")
def _weigh(first: int, last: int, leanings: _Leanings, out: _Weighed) -> None:
    """Strikes of expirations `first` to `last`, their volatility, and where people trade and where they hold, before chance: near
    the money, at round strikes, out of the money, on the side that is leaned to; positions rather in third Fridays."""
    bounds, step, low, forward, years, atm, held_until, trades, holds, rho, eta = leanings
    strike, vol, expected, target = out
    for e in range(first, last):
        root = math.sqrt(years[e])
        deviation = atm[e] * root
        theta = deviation * deviation
        soon = math.exp(-3.0 * years[e])
        for i in range(bounds[e], bounds[e + 1]):
            number = low[e] + i - bounds[e]
            strike[i] = number * step[e]
            k = math.log(strike[i] / forward[e])
            z = eta[e] * k / deviation
            total = 0.5 * theta * (1 + rho[e] * z + math.sqrt((z + rho[e]) ** 2 + 1 - rho[e] * rho[e]))
            vol[i] = math.sqrt(total) / root
            near = (k / deviation) ** 2
            round_strike = 1.6 if number % 5 == 0 else 1.0
            traded = math.exp(-near / 1.62) * soon * round_strike + 1e-3
            interest = math.exp(-near / 4.5) * held_until[e] * round_strike + 2e-3
            for side in range(2):
                outside = (side == 0) == (k > 0.0)
                expected[side, i] = traded * trades[side, e] * (1.4 if outside else 0.7)
                target[side, i] = interest * holds[side, e] * (1.2 if outside else 0.85)


@njit(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])", cache=True, nogil=True, error_model="numpy"
)
def _trade(
    traded: Floats, opened: Floats, expected: Floats, now: Floats, target: Floats, volume: Floats, moved: Floats
) -> None:
    """Contracts traded (a geometric number: bursts are many), and what they leave open: they open more the further a contract is
    below what it usually holds. `traded`, `opened`: uniform draws."""
    for i in range(traded.size):
        mean = expected[i]
        volume[i] = math.floor(-math.log(1.0 - traded[i]) / math.log1p(1.0 / mean)) if mean > 1e-12 else 0.0
        opening = 0.4 * (1.0 - now[i] / target[i]) + 0.8 * opened[i] - 0.4
        moved[i] = max(round(volume[i] * min(max(opening, -0.9), 0.9)), -now[i])


def _monthly_weight(expiration: DateArray) -> Floats:
    dom = (expiration - expiration.astype("datetime64[M]").astype("datetime64[D]")).astype(int) + 1
    return np.where((dom >= 14) & (dom <= 21), 2.2, 0.6)


class Morning(NamedTuple):
    """What is listed in a session before it trades: expirations, strikes, and of every row its name, expiration, strike and
    volatility; how much of its call and put is expected to be traded and to be held, and what is open and was the morning before
    (NaN where it was not listed), shape (2, rows). `bounds`: each name's first row, and the end."""

    listed: Listed
    expiries: Expiries
    owner: Whole
    bounds: Whole
    expiry: Whole
    strike: Floats
    vol: Floats
    expected: Floats
    target: Floats
    was: Floats
    now: Floats

    def book(self, session: int, volume: Floats) -> Book:
        return Book(
            session, self.expiries, self.expiry, self.strike, *volume.astype(np.int64), *self.now.astype(np.int64)
        )


class Interest:
    """What is open of every listed contract, and what people lean to: what a session begins with.

    A contract's interest changes by what its trades of the session before opened less what they closed, so never by more than
    they were; it grows towards what a contract at its place usually holds and ends with the expiration.
    """

    def __init__(
        self,
        names: list[Listing],
        level: Floats,
        taste: Floats,
        mood: Floats,
        listed: Listed | None = None,
        interest: Floats | None = None,
        before: Floats | None = None,
    ) -> None:
        """`level`: how much is open of a name in all; `taste` for calls or puts, which is slow, and a day's `mood`, by name;
        `listed`: what is, of which `interest` is open and `before` was in the morning before, shape (2, rows)."""
        self.level, self.taste, self.mood, self.listed = level, taste, mood, listed
        self.interest, self.before = interest, before
        self._share = np.array([SIZES[name.size].strike_step for name in names])
        self._most = np.array([SIZES[name.size].max_strikes for name in names])

    def morning(self, ground: Ground, t: int, expiries: Expiries, rng: np.random.Generator) -> Morning:
        """What is there before session `t` of a ground trades."""
        count, spot = self.level.size, ground.close[:, t]
        new = _listing(self.listed, expiries, spot, self._share, self._most)
        owner = np.repeat(expiries.name, new.strikes)
        bounds = group_bounds(owner, count)
        self.taste = 0.98 * self.taste + 0.1 * rng.normal(size=count)
        self.mood = 0.7 * self.mood + 0.3 * rng.normal(size=count)
        strike, vol, expected, target = _weighed(ground, new, expiries, t, self.taste, self.mood)
        target *= (self.level / group_sums(target.sum(axis=0), bounds))[owner]
        expected *= (ground.option_volume[:, t] / group_sums(expected.sum(axis=0), bounds))[owner]
        if self.listed is None or self.before is None or self.interest is None:
            was = np.full(target.shape, np.nan)
            now = np.round(target * np.exp(rng.normal(0.0, 0.7, target.shape)))
        else:
            carried = _carried(self.listed, new, *self.before, *self.interest)
            was, now = np.array(carried[:2]), np.nan_to_num(np.array(carried[2:]))
        expiry = np.repeat(np.arange(new.key.size), new.strikes)
        return Morning(new, expiries, owner, bounds, expiry, strike, vol, expected, target, was, now)

    def trade(self, morning: Morning, rng: np.random.Generator) -> tuple[Floats, Floats]:
        """Contracts that trade in the session, and what that opens less what it closes, shape (2, rows)."""
        volume, moved = np.empty(morning.target.shape), np.empty(morning.target.shape)
        drawn = rng.random((2, morning.target.size))
        given = (*drawn, morning.expected, morning.now, morning.target, volume, moved)
        parts = [np.ascontiguousarray(values).reshape(-1) for values in given]
        run_in_chunks(_trade, parts[:5], parts[5:])
        return volume, moved

    def end(self, morning: Morning, moved: Floats) -> None:
        """The session is over: what its trades opened is open in the next morning."""
        self.listed, self.before, self.interest = morning.listed, morning.now, morning.now + moved


def make_open_interest(
    ground: Ground,
    closes: list[list[Priced]],
    rng: np.random.Generator,
    progress: Callable[[float], None],
    *,
    summarised: bool,
) -> OpenInterest:
    """Walk every listed contract through all sessions.

    What the chains of each session say about exposure takes most of the time and is left out when it is not to be `summarised`.
    """
    names, calendar, option_volume, multiplier = ground.names, ground.calendar, ground.option_volume, ground.multiplier
    count = len(names)
    ends = [cycles(cycle_ends(calendar, monthly=monthly)).end for monthly in (False, True)]
    typical = np.array([DECISION_CONTRACTS[name.size] for name in names])
    plants = _plants(names, ground.planted)
    sums = {
        f"{side}_{what}": np.zeros((count, SESSIONS))
        for side in ("call", "put")
        for what in ("volume", "open_interest")
    }
    sums["strikes"] = np.zeros((count, SESSIONS))
    books: list[Book] = []
    fitted: Fitted = {}
    held = Interest(names, _HELD_SESSIONS * option_volume.mean(axis=1), rng.normal(0.0, 0.5, count), np.zeros(count))
    # Sessions are summarised while the next ones are made.
    with ThreadPoolExecutor(os.cpu_count() or 1) as beside:
        summaries: list[Future[Positions]] = []
        flows: list[Future[Floats]] = []
        for t in range(SESSIONS):
            expiries = expiries_at_close(closes[t]) if t < SESSIONS - 1 else _expiries_now(ground, closes[t])
            spot = ground.close[:, t]
            morning = held.morning(ground, t, expiries, rng)
            new, owner, now = morning.listed, morning.owner, morning.now
            place = [
                (plant, _row(new, plant.name, plant.contract, fitted))
                for plant in plants
                if plant.first <= t <= plant.last
            ]
            for plant, (side, row) in place:
                if plant.first == t and plant.contract.base is not None:
                    now[side, row] = plant.contract.base
            years = expiries.years[morning.expiry]
            if summarised:
                rows = StrikeRows(
                    owner, expiries.expiration[morning.expiry], morning.strike, years, morning.vol, ground.carry[owner],
                    multiplier[owner], *now, *morning.was,
                )  # fmt: skip
                week_end, month_end = (calendar[end[t + 1]] for end in ends)
                summaries.append(
                    beside.submit(
                        summarise_positions, rows, spot=spot, rate=RATE, week_end=week_end, month_end=month_end
                    )
                )
                if t >= _AHEAD:
                    summaries[t - _AHEAD].result()

            volume, moved = held.trade(morning, rng)
            for plant, (side, row) in place:
                volume[side, row] += plant.contract.contracts
                moved[side, row] = plant.contract.contracts
            for name, trade in trades_of(ground, t):
                # Its volume comes with its moment.
                side, row = _row(new, name, trade, fitted)
                moved[side, row] = max(moved[side, row] + trade.opens, -now[side, row])
                sums[f"{trade.right}_volume"][name, t] += trade.traded
            if summarised:
                traded = Traded(owner, morning.strike, morning.vol, years, volume, now)
                stocks = Stocks(spot, ground.carry, multiplier, typical)
                flows.append(beside.submit(session_flow, t, traded, stocks, RATE))
            for side, name_of_side in enumerate(("call", "put")):
                sums[f"{name_of_side}_volume"][:, t] += group_sums(volume[side], morning.bounds)
                sums[f"{name_of_side}_open_interest"][:, t] = group_sums(now[side], morning.bounds)
            sums["strikes"][:, t] = np.diff(morning.bounds)
            if t >= SESSIONS - 1 - CLOSES_KEPT:
                books.append(morning.book(t, volume))
            held.end(morning, moved)
            if t % 12 == 0:
                progress(t / SESSIONS)
        results = [summary.result() for summary in summaries]
        each = [flow.result() for flow in flows]
    keys = Positions._fields if summarised else ()
    flow = {key: np.stack([one[place] for one in each], axis=1) for place, key in enumerate(SUMS)} if summarised else {}
    positions = {key: np.stack([getattr(one, key) for one in results], axis=1) for key in keys}
    return OpenInterest(positions, flow, sums, books, fitted, held)


def _weighed(ground: Ground, listed: Listed, expiries: Expiries, t: int, taste: Floats, mood: Floats) -> _Weighed:
    """What is expected of every row of a session, given the taste for calls and the day's mood."""
    name, size = expiries.name, int(listed.strikes.sum())
    forward = ground.close[name, t] * np.exp((RATE - ground.carry[name]) * expiries.years)
    held_until = _monthly_weight(expiries.expiration) * np.exp(-0.8 * expiries.years)
    trades, holds = (np.exp(np.stack([0.5 * lean[name], -0.5 * lean[name]])) for lean in (taste + mood, taste))
    bounds = np.concatenate([[0], np.cumsum(listed.strikes)])
    leanings = _Leanings(
        bounds, listed.step, listed.low, forward, expiries.years, expiries.vol, held_until, trades, holds,
        ground.smiles.rho[name, t], ground.smiles.eta[name, t],
    )  # fmt: skip
    out = _Weighed(np.empty(size), np.empty(size), np.empty((2, size)), np.empty((2, size)))
    over_groups(lambda first, last: _weigh(first, last, leanings, out), bounds)
    return out


def expiries_at_close(listed: list[Priced]) -> Expiries:
    """Expirations of all names as they were priced at a close."""
    return ordered_expiries([(group, group.days / 365, group.vol) for group in listed])


def _expiries_now(ground: Ground, listed: list[Priced]) -> Expiries:
    """Those of the newest session, at the as-of instant."""
    years = [years_to_close(group.listed, AS_OF) for group in listed]
    return ordered_expiries(
        [
            (group, ahead, vols_at(ground, SESSIONS - 1, group.listed, ahead, group.members))
            for group, ahead in zip(listed, years, strict=True)
        ]
    )


def ordered_expiries(parts: list[tuple[Priced, Floats, Floats]]) -> Expiries:
    """By name and date; each part with its years, shape (expirations,), and volatilities, shape (members, expirations)."""
    name, expiration, years, vol = (
        np.concatenate(column)
        for column in zip(
            *[
                (
                    np.repeat(p.members, p.listed.size),
                    *(np.tile(a, p.members.size) for a in (p.listed, ahead)),
                    vol.reshape(-1),
                )
                for p, ahead, vol in parts
            ],
            strict=True,
        )
    )
    order = np.lexsort((expiration, name))
    return Expiries(name[order], expiration[order], years[order], vol[order])


class _Plant(NamedTuple):
    """Contracts of a name that are opened on purpose in each of some sessions."""

    name: int
    contract: PlantedInterest
    first: int
    last: int


def _plants(names: list[Listing], planted: dict[str, Storyline]) -> list[_Plant]:
    return [
        _Plant(i, p, SESSIONS + p.first, SESSIONS + p.last)
        for i, name in enumerate(names)
        if name.symbol in planted
        for p in planted[name.symbol].interest
    ]


def _row(listed: Listed, name: int, contract: PlantedInterest | PlantedTrade, fitted: Fitted) -> tuple[int, int]:
    """Side and row of a planted contract; where it is met for the first time, which listed one stands for it is `fitted`."""
    asked = (name, contract.expiration, contract.strike)
    if asked not in fitted:
        fitted[asked] = _nearest(listed, asked, fitted)
    expiration, strike = fitted[asked]
    place = int(np.searchsorted(listed.key, _expiration_key(name, expiration)))
    number = round(strike / listed.step[place])
    return int(contract.right == "put"), int(listed.strikes[:place].sum() + number - listed.low[place])


def _expiration_key(name: int, expiration: dt.date) -> int:
    return name * 100_000 + int((np.datetime64(expiration, "D") - _FIRST_DAY).astype(np.int64))


def _nearest(listed: Listed, asked: tuple[int, dt.date, float], fitted: Fitted) -> tuple[dt.date, float]:
    """The listed contract nearest to a planted one, of the strikes that stand for no other: so a roll stays one."""
    name, wanted, strike = asked
    first, end = np.searchsorted(listed.key, [name * 100_000, (name + 1) * 100_000])
    place = int(first + np.abs(listed.key[first:end] - _expiration_key(name, wanted)).argmin())
    expiration: dt.date = (_FIRST_DAY + int(listed.key[place] % 100_000)).astype(object)
    step = float(listed.step[place])
    strikes = step * np.arange(listed.low[place], listed.high[place] + 1)
    taken = {
        at: own for (row, _, own), (day, at) in fitted.items() if row == name and day == expiration and own != strike
    }
    # On its side of those that are taken.
    free = [
        float(one)
        for one in strikes
        if one not in taken and all((one > at) == (strike > own) for at, own in taken.items())
    ] or [float(one) for one in strikes if one not in taken]
    return expiration, min(free, key=lambda one: abs(one - strike))
