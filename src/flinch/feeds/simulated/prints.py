"""Off-exchange prints of the last sessions, at prices that the stock traded at."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import CLOSE, SESSIONS, DateArray, session_opens, since_open
from flinch.feeds.simulated.names import Listing
from flinch.feeds.simulated.storylines import Storyline
from flinch.store.market.prints import AVERAGE, DERIVATIVE, LATE

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
PRINT_SESSIONS = 60
LEAST_SHARES, LEAST_NOTIONAL = 1_000, 50_000.0
"""What a print has at least: so many shares, or so much money."""
EACH_SESSION = {"large": 96.0, "medium": 22.0, "small": 4.0}
_MOST_OF_VOLUME = 0.42
_MINUTE = 60_000
_CONDITIONS = {"average": AVERAGE, "derivative": DERIVATIVE, "late": LATE}
_HOLDING_SEED = 314
HOLDING_SHARE = 0.3
"""Of the companies, the share whose shelves know something: much was printed where price would turn later."""
_ELSEWHERE = 0.2
"""Of what is usual, how much is printed elsewhere in them."""
_TURN_REACH, _TURN_AFTER, _TURN_BACK, _PLANTED_BEFORE = 1, 3, 20, 3


class Days(NamedTuple):
    """Daily bars of the sessions that have prints, names x sessions; the volume of an index is NaN. `traded`: whether it did;
    `ends`: milliseconds since the open at which each name's newest session ends, shape (names,); `over`: whether the evening
    after it is there."""

    open: Floats
    high: Floats
    low: Floats
    close: Floats
    volume: Floats
    traded: NDArray[np.bool_]
    ends: Whole
    over: bool = False


class _Prints(NamedTuple):
    """Shape (prints,): name, day, milliseconds since the open, price, shares, conditions."""

    name: Whole
    day: Whole
    at: Whole
    price: Floats
    shares: Whole
    conditions: Whole


def make_prints(
    names: list[Listing],
    sessions: DateArray,
    days: Days,
    minutes: dict[int, Floats],
    planted: dict[str, Storyline],
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Prints of every name that trades.

    Parameters
    ----------
    names, sessions, days
        Who, and the sessions that have prints, oldest first.
    minutes
        Of the newest sessions (an index of `sessions`) the price at the end of each minute, names x minutes; prints of other
        sessions lie between the day's low and high.
    planted
        Storylines by symbol.
    rng
        A stream of its own.

    Returns
    -------
    By session, name and time: session (an index of all), name, at (milliseconds since the session's midnight in UTC), price,
    shares, conditions.
    """
    parts = [_drawn(names, days, minutes, planted, rng), _holding(names, days, planted, rng)]
    whole = _Prints(*(np.concatenate(column) for column in zip(*parts, strict=True)))
    whole = _within_volume(_split(whole, rng), days)
    whole = _Prints(*(np.concatenate(column) for column in zip(whole, _planted(names, planted), strict=True)))
    return _told(whole, sessions, SESSIONS - sessions.size)


def day_prints(
    names: list[Listing], sessions: DateArray, days: Days, minutes: Floats, begin: int, rng: np.random.Generator
) -> pl.DataFrame:
    """Prints of one session from `begin` (milliseconds since its open) on, as `make_prints` gives them, `session` being 0;
    `minutes`: the price of each name at the end of each minute."""
    whole = _within_volume(_split(_drawn(names, days, {0: minutes}, {}, rng), rng), days)
    later = whole.at >= begin
    columns: list[NDArray[Any]] = [column[later] for column in whole]
    return _told(_Prints(*columns), sessions, 0)


def _told(whole: _Prints, sessions: DateArray, first: int) -> pl.DataFrame:
    midnight = sessions.astype("datetime64[ms]")
    opened = (session_opens(sessions).astype("datetime64[ms]") - midnight).astype(np.int64)
    return pl.DataFrame(
        {
            "session": whole.day + first,
            "name": whole.name,
            "at": whole.at + opened[whole.day],
            "price": whole.price,
            "shares": whole.shares,
            "conditions": whole.conditions,
        }
    ).sort("session", "name", "at", maintain_order=True)


def _drawn(
    names: list[Listing], days: Days, minutes: dict[int, Floats], planted: dict[str, Storyline],
    rng: np.random.Generator,
) -> _Prints:  # fmt: skip
    usual = np.array([EACH_SESSION[name.size] for name in names])
    quiet = [name.symbol in planted and planted[name.symbol].only_planted_prints for name in names]
    volume = np.where(days.traded, np.nan_to_num(days.volume), 0.0)
    busy = volume * days.traded.sum(axis=1, keepdims=True) / np.maximum(volume.sum(axis=1, keepdims=True), 1.0)
    mean = usual[:, None] * busy
    mean[quiet] = 0.0
    mean[holding_names(names, planted)] *= _ELSEWHERE
    count = rng.poisson(mean)
    name, day = (np.repeat(index, count.reshape(-1)) for index in map(np.ravel, np.indices(count.shape)))
    size, newest = name.size, count.shape[1] - 1
    whole = since_open(CLOSE)
    # More after the open and before the close, as everything.
    grid = np.linspace(0.0, 1.0, 2001)
    rush = np.cumsum(1 + 1.8 * (2 * grid - 1) ** 2)
    share = np.interp(rng.uniform(rush[0], rush[-1], size), rush, grid)
    late_hours = (rng.random(size) < 0.06) & ((day < newest) | days.over)
    end = np.where(day == newest, days.ends[name], whole)
    at = np.where(late_hours, whole + rng.integers(0, 3 * 3_600_000, size), np.floor(end * share)).astype(np.int64)

    low, high, close, opened = (values[name, day] for values in (days.low, days.high, days.close, days.open))
    price = opened + (close - opened) * share + 0.25 * (high - low) * rng.normal(size=size)
    for place, prices in minutes.items():
        here = day == place
        minute = np.minimum(at[here] // _MINUTE, prices.shape[1] - 1)
        before = np.where(minute > 0, prices[name[here], np.maximum(minute - 1, 0)], opened[here])
        price[here] = before + (prices[name[here], minute] - before) * rng.random(here.sum())
    price = np.where(late_hours, close * np.exp(rng.normal(0.0, 0.0005, size)), price)
    # Some come back to a price at which there was a print before.
    earlier = np.arange(size) - rng.integers(1, 60, size)
    again = (rng.random(size) < 0.25) & (earlier >= 0) & ~late_hours
    again &= name[earlier] == name
    nearby = np.isin(day, list(minutes))
    again &= (np.abs(price[earlier] / price - 1) < np.where(nearby, 0.0015, 1.0)) & (price[earlier] >= low)
    again &= price[earlier] <= high
    price = np.where(again, price[earlier], price)
    price = np.where(late_hours, price, np.clip(price, low, high))

    drawn = rng.random(size)
    average, derived = drawn < 0.03, (drawn >= 0.03) & (drawn < 0.04)
    price = np.where(average, 0.25 * (opened + high + low + close) * np.exp(rng.normal(0.0, 0.004, size)), price)
    price = np.where(derived, price * np.exp(rng.normal(0.0, 0.012, size)), price)
    conditions = AVERAGE * average + DERIVATIVE * derived
    late = (rng.random(size) < 0.01) & ~late_hours
    at = np.where(late, np.minimum(at + rng.integers(5 * _MINUTE, 60 * _MINUTE, size), end - 1), at)
    conditions = conditions + LATE * late
    price = np.round(price, 2)
    least = np.minimum(LEAST_SHARES, np.ceil(LEAST_NOTIONAL / price))
    shares = np.floor(least * (1 - rng.random(size)) ** (-1 / 1.25)).astype(np.int64)
    most = np.maximum(np.nan_to_num(days.volume[name, day]) * 0.05, least)
    return _Prints(name, day, at, price, np.minimum(shares, most).astype(np.int64), conditions)


def _split(made: _Prints, rng: np.random.Generator) -> _Prints:
    """Some are told in two to four pieces within a second, a tick apart at most."""
    size = made.name.size
    pieces = np.where((rng.random(size) < 0.1) & (made.shares >= 4 * LEAST_SHARES), rng.integers(2, 5, size), 1)
    of = np.repeat(np.arange(size), pieces)
    place = np.arange(of.size) - (np.cumsum(pieces) - pieces)[of]
    even, rest = np.divmod(made.shares, pieces)
    shares = even[of] + np.where(place == 0, rest[of], 0)
    tick = np.where(place > 0, rng.choice([-0.01, 0.0, 0.0, 0.01], of.size), 0.0)
    at = made.at[of] + place * rng.integers(40, 240, of.size)
    return _Prints(made.name[of], made.day[of], at, np.round(made.price[of] + tick, 2), shares, made.conditions[of])


def _within_volume(made: _Prints, days: Days) -> _Prints:
    """No more than a share of what was traded in the session; what becomes too small to be told is left out."""
    key = made.name * days.volume.shape[1] + made.day
    total = np.bincount(key, made.shares, days.volume.size)
    factor = np.minimum(1.0, _MOST_OF_VOLUME * np.nan_to_num(days.volume).reshape(-1) / np.maximum(total, 1.0))
    shares = np.floor(made.shares * factor[key]).astype(np.int64)
    kept = (shares >= LEAST_SHARES) | (shares * made.price >= LEAST_NOTIONAL)
    return _Prints(*(column[kept] for column in made._replace(shares=shares)))


def holding_names(names: list[Listing], planted: dict[str, Storyline]) -> NDArray[np.bool_]:
    """Companies whose shelves know something, shape (names,): a share of those without a planted case."""
    chosen = np.random.default_rng(_HOLDING_SEED).random(len(names)) < HOLDING_SHARE
    return np.array(
        [one and name.kind == "stock" and name.symbol not in planted for one, name in zip(chosen, names, strict=True)]
    )


def _holding(names: list[Listing], days: Days, planted: dict[str, Storyline], rng: np.random.Generator) -> _Prints:
    """The one thing that prints know here: in a share of the companies much is printed where price will turn within a month."""
    rows: list[tuple[int, int, float, int]] = []
    count = days.close.shape[1]
    for i in np.flatnonzero(holding_names(names, planted)).tolist():
        low, high, close, volume = days.low[i], days.high[i], days.close[i], days.volume[i]
        move = float(np.nanmean(high - low))
        for t in range(_TURN_REACH + 5, count - 1):
            around = slice(t - _TURN_REACH, min(t + _TURN_REACH + 1, count))
            after = close[t + 1 : t + 1 + _TURN_AFTER]
            for sign, extreme in ((1, low), (-1, high)):
                turned = extreme[t] == (low[around].min() if sign > 0 else high[around].max())
                if not turned or not (sign * (after - extreme[t]) > 0.8 * move).any():
                    continue
                level = round(extreme[t] + sign * 0.1 * move, 2)
                before = [s for s in range(max(0, t - _TURN_BACK), t) if low[s] <= level <= high[s]]
                for s in before[-_PLANTED_BEFORE:]:
                    rows.append((i, s, level, int(0.15 * volume[s] * rng.uniform(0.6, 1.4))))
    name_ = np.array([row[0] for row in rows], np.int64)
    day, shares = (np.array([row[place] for row in rows], np.int64) for place in (1, 3))
    price = np.array([row[2] for row in rows], np.float64)
    at = rng.integers(0, np.where(day == count - 1, days.ends[name_], since_open(CLOSE)))
    kept = (shares >= LEAST_SHARES) | (shares * price >= LEAST_NOTIONAL)
    columns: list[NDArray[Any]] = [name_, day, at, price, shares, np.zeros(day.size, np.int64)]
    return _Prints(*(column[kept] for column in columns))


def _planted(names: list[Listing], planted: dict[str, Storyline]) -> _Prints:
    rows = [
        (
            i,
            PRINT_SESSIONS + p.session,
            since_open(p.at) + step * p.every,
            p.price,
            p.shares,
            sum(_CONDITIONS[c] for c in p.conditions),
        )
        for i, name in enumerate(names)
        if name.symbol in planted
        for p in planted[name.symbol].prints
        for step in range(p.times)
    ]
    columns = list(zip(*rows, strict=True)) if rows else [()] * 6
    name, day, at, price, shares, conditions = (np.array(column) for column in columns)
    return _Prints(
        name.astype(np.int64), day.astype(np.int64), at.astype(np.int64), price.astype(np.float64),
        shares.astype(np.int64), conditions.astype(np.int64),
    )  # fmt: skip
