"""One session of the exchange as it goes on, made whole before its first moment is told: when that is changes nothing of it."""

from __future__ import annotations

import copy
import datetime as dt
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.core.calendar import years_to_close
from flinch.feeds.simulated.activity import REPORT_CONTRACTS, REPORT_SHARES, UNTIL_NOW, lift_of
from flinch.feeds.simulated.calendar import (
    AS_OF,
    CLOSE,
    EXCHANGE_ZONE,
    OPEN,
    DateArray,
    all_sessions,
    listed_expirations,
    session_opens,
)
from flinch.feeds.simulated.chains import Snapshot, quote_book
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.extended import QUIET, USUAL, ExtendedHours
from flinch.feeds.simulated.ground import Ground
from flinch.feeds.simulated.interest import Book, Expiries, ordered_expiries
from flinch.feeds.simulated.intraday import EVENING, MORNING, minute_closes, regular_bars, thin_bars
from flinch.feeds.simulated.mishaps import Halt, after_halt, amended, draw_halt, halted_at, without_halted
from flinch.feeds.simulated.names import SIZES, listing_groups
from flinch.feeds.simulated.newswire import make_news
from flinch.feeds.simulated.onward import KEPT_CLOSES, Onward, sessions_from
from flinch.feeds.simulated.paths import OVERNIGHT_SHARE, Paths
from flinch.feeds.simulated.prints import Days, day_prints
from flinch.feeds.simulated.snapshots import AdjustedRows, adjusted_rows, vols_during
from flinch.feeds.simulated.storylines import storylines
from flinch.feeds.simulated.surfaces import Smile
from flinch.feeds.simulated.tape import stretch_tape
from flinch.feeds.simulated.volatility import Priced, vols_at
from flinch.store.market.run import FIRST_LOOK
from flinch.store.market.tape import CANCELLED

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
_MINUTES, _QUARTER = 390, 15
_DAY_MS = _MINUTES * 60_000
_AHEAD = 400
CADENCE = FIRST_LOOK // dt.timedelta(minutes=1)
"""Minutes from one look at the chains to the next."""
_FAR = 0.5
"""Expected days that a name moves until its chain is looked at at once."""
_CONTRACT = ["name", "expiration", "strike", "is_call"]
_MINUTE_YEARS = 1 / 525_600
_EVENING_ENDS, _EVENING_STEP = 240, 15
"""Minutes after the close at which the evening ends, and from one moment of it to the next."""


class Made(NamedTuple):
    """What is made of a session: the chain at its close, the price of each name at the end of each minute, minute bars, fills,
    prints and headlines as in `SimulatedMarket`, what is seen outside regular hours, by name, and who is halted for a while."""

    closed: Snapshot
    spots: Floats
    minutes: pl.DataFrame
    tape: pl.DataFrame
    prints: pl.DataFrame
    news: pl.DataFrame
    night: ExtendedHours
    halt: Halt | None


class Day:
    """A session from its morning to its evening; or, of the one that the market was made in the middle of, what was left of it.

    `ground` has the session before at 0 and this one at 1. Frames are as those of `SimulatedMarket`, and of this session alone.
    """

    def __init__(
        self, ground: Ground, book: Book, made: Made, begins: int, before: Whole, bar: Floats, seed: Onward
    ) -> None:
        """`seed` has the `stream` of random numbers of each label. `begins`: the minute after the open with which it begins;
        until then `before` had traded of each contract of the book, calls and puts in turn, and `bar` is the day's, as `Onward`
        has it."""
        self.ground, self.book, self.made, self.begins, self._bar = ground, book, made, begins, bar
        self._before, self.stream = before, seed.stream
        self.names, self.session = ground.names, ground.calendar[1]
        self.opened = _opened(self.session)

    def reports(self) -> pl.DataFrame:
        """The next report of every company whose last one was reacted to in this session: company, session, before_open; its date
        comes with the one before it."""
        earnings, calendar = self.ground.earnings, self.ground.calendar
        reacted = np.isin(earnings.company, earnings.company[earnings.reaction == 1]) & (earnings.reaction > 1)
        ahead = np.flatnonzero(reacted)
        ahead = ahead[np.unique(earnings.company[ahead], return_index=True)[1]]
        ahead = ahead[earnings.announced[ahead] < calendar.size]
        return pl.DataFrame(
            {
                "company": earnings.company[ahead],
                "session": calendar[earnings.announced[ahead]],
                "before_open": earnings.before_open[ahead],
            }
        )

    @property
    def day(self) -> dt.date:
        """Its date."""
        date: dt.date = self.session.astype(object)
        return date

    @cached_property
    def moments(self) -> list[dt.datetime]:
        """When something is told, in order: each minute from the first look at the chains on, and some times in the evening."""
        first = self.begins + 1 if self.begins else CADENCE
        minutes = [*range(first, _MINUTES + 1)]
        minutes += range(_MINUTES + _EVENING_STEP, _MINUTES + _EVENING_ENDS + 1, _EVENING_STEP)
        return [self.opened + dt.timedelta(minutes=minute) for minute in minutes]

    def looked_at(self, moment: dt.datetime) -> NDArray[np.bool_]:
        """Whose chains are looked at in a moment: everybody's in each fifth minute, and between those of names that have moved by
        more than half an expected day since their last look."""
        return self._looks.get(self._minute(moment), np.zeros(len(self.names), dtype=bool))

    def _expected_day(self) -> Floats:
        """The move, as a decimal, that options of about thirty days price for a session, as it begins; by name."""
        began = self.opened + dt.timedelta(minutes=self.begins)
        expiries = self.book.expiries
        years = years_to_close(expiries.expiration, began)
        vol = vols_during(self.ground, self.book, years, self.begins / _MINUTES)
        nearest = np.lexsort((np.abs(years - 30 / 365), expiries.name))
        names, first = np.unique(expiries.name[nearest], return_index=True)
        out = np.full(len(self.names), np.nan)
        out[names] = vol[nearest][first] / np.sqrt(252)
        return out

    @cached_property
    def _looks(self) -> dict[int, NDArray[np.bool_]]:
        """Whose chains are looked at, by minutes after the open."""
        spots, expected = self.made.spots, self._expected_day()
        last = self._bar[3].copy() if self.begins else np.full(len(self.names), np.nan)
        out = {}
        for minute in range(self.begins + 1, _MINUTES + 1):
            if (minute - self.begins) % CADENCE == 0:
                looked = np.ones(len(self.names), dtype=bool)
            else:
                with np.errstate(invalid="ignore"):
                    far = np.abs(np.log(spots[:, minute - 1] / last)) > _FAR * expected
                looked = far & ~halted_at(self.made.halt, minute, self.ground.halted)
            last = np.where(looked, spots[:, minute - 1], last)
            out[minute] = looked
        return out

    def snapshot(self, moment: dt.datetime, who: NDArray[np.bool_] | None = None) -> Snapshot:
        """All chains at a moment of the session, whoever is looked at; quoted are those of the names `who`, or all."""
        minute = self._minute(moment)
        if minute == _MINUTES:
            chain = self.made.closed.chain
            return self.made.closed._replace(chain=chain._replace(volume=self._traded(self.made.closed, _DAY_MS)))
        book, ground = self.book, self.ground
        years = years_to_close(book.expiries.expiration, moment)
        expiries = book.expiries._replace(years=years, vol=vols_during(ground, book, years, minute / _MINUTES))
        spot, everything = self.made.spots[:, minute - 1], np.ones(len(self.names))
        halted = halted_at(self.made.halt, minute, ground.halted)
        drawn = self.stream(f"quotes {moment}")
        chain = quote_book(ground, book, expiries, spot, everything, halted, drawn, who)
        snapshot = Snapshot(moment, book.session, spot, expiries, chain)
        return snapshot._replace(chain=chain._replace(volume=self._traded(snapshot, minute * 60_000)))

    def bar(self, moment: dt.datetime) -> Floats:
        """Open, high, low, close and shares of each name up to a moment, shape (5, names); NaN where it did not trade yet."""
        out = np.full((5, len(self.names)), np.nan)
        closes = self.opened + dt.timedelta(minutes=_MINUTES)
        bars = _day_bars(_between(self.made.minutes, self.opened, min(moment, closes)))
        out[:, bars["name"].to_numpy()] = bars.select("open", "high", "low", "close", "volume").to_numpy().T
        out[4, [name.kind == "index" for name in self.names]] = np.nan
        if not self.begins:
            return out
        before = self._bar
        shares = np.where(np.isnan(before[4]), np.nan, np.nan_to_num(before[4]) + np.nan_to_num(out[4]))
        close = np.where(np.isnan(out[3]), before[3], out[3])
        return np.stack([before[0], np.fmax(before[1], out[1]), np.fmin(before[2], out[2]), close, shares])

    def outside(self, moment: dt.datetime) -> dict[str, Floats]:
        """What was seen before the open and, so far, after the close, by column of the store."""
        night = self.made.night
        closes = self.opened + dt.timedelta(minutes=_MINUTES)
        seen = _day_bars(_between(self.made.minutes, closes, moment))
        evening = np.full((2, len(self.names)), np.nan)
        evening[:, seen["name"].to_numpy()] = seen.select("close", "volume").to_numpy().T
        return {**night._asdict(), "post_last": evening[0], "post_volume": evening[1]}

    def adjusted(self, snapshot: Snapshot) -> list[AdjustedRows]:
        """Contracts that a corporate action changed, at a snapshot."""
        ground = self.ground
        return [
            adjusted_rows(i, story, snapshot, ground.carry[i], self.stream(f"adjusted {snapshot.taken_at}"))
            for i, name in enumerate(self.names)
            if (story := ground.planted.get(name.symbol)) is not None and story.adjusted is not None
        ]

    def _minute(self, moment: dt.datetime) -> int:
        return (moment - self.opened) // dt.timedelta(minutes=1)

    def _traded(self, snapshot: Snapshot, upto: int) -> Whole:
        """Contracts that traded of each of a chain's, up to so many milliseconds after the open."""
        counted = (pl.col("at") < _from_midnight(self.session) + upto) & ((pl.col("conditions") & CANCELLED) == 0)
        # What is told twice was traded once.
        sums = (
            self.made.tape.filter(counted)
            .unique(maintain_order=True)
            .group_by(_CONTRACT)
            .agg(pl.col("contracts").sum())
        )
        expiries, chain = snapshot.expiries, snapshot.chain
        columns = expiries.name[chain.expiry], expiries.expiration[chain.expiry], chain.strike, chain.is_call
        rows = pl.DataFrame(dict(zip(_CONTRACT, columns, strict=True)))
        found = rows.join(sums, on=_CONTRACT, how="left", maintain_order="left")["contracts"].fill_null(0)
        lives_on = np.repeat(self.book.expiries.expiration[self.book.expiry] > self.session, 2)
        before = self._before[lives_on] if upto == _DAY_MS else self._before
        total: Whole = found.to_numpy().astype(np.int64) + before
        return total


def _between(minutes: pl.DataFrame, begin: dt.datetime, end: dt.datetime) -> pl.DataFrame:
    """Minutes that began at a moment or after it and were over by another."""
    first, last = (moment.astimezone(dt.UTC).replace(tzinfo=None) for moment in (begin, end))
    return minutes.filter((pl.col("at") >= first) & (pl.col("at") < last))


def _day_bars(minutes: pl.DataFrame) -> pl.DataFrame:
    """One bar of each name's minutes, which are in order."""
    return minutes.group_by("name").agg(
        pl.col("open").first(),
        pl.col("high").max(),
        pl.col("low").min(),
        pl.col("close").last(),
        pl.col("volume").sum(),
    )


def next_day(onward: Onward) -> tuple[Day, Onward]:
    """The next session, or what is left of an unfinished one, and where the exchange is after it."""
    then = copy.deepcopy(onward)
    return (_rest(then) if onward.unfinished else _whole(then)), then


def _whole(then: Onward) -> Day:
    """A session from its morning to its evening; `then` is where the exchange is before it, and afterwards after it."""
    calendar = sessions_from(then.session, _AHEAD)
    session, names = calendar[1], then.names
    stream, label = then.stream, str(calendar[1])
    earnings = then.earnings_from(calendar[0])
    companies = then.own_factor.size
    hit = earnings.reaction == 1
    ones = np.ones(companies)
    level = then.walk.level
    walked = then.walk.session(
        stream(f"paths {label}"), then.own_factor, ones, (earnings.company[hit], earnings.jump[hit])
    )
    then.own_factor, then.halted = ones, np.zeros(len(names), dtype=bool)
    previous, close = np.exp(level), np.exp(walked.after[:, -1])
    before = then.variance, then.premium_now, then.smile_now
    then.variance = walked.variance
    then.premium_now = then.premium.step(stream(f"premium {label}"))
    then.smile_now = then.smiles.step(stream(f"smiles {label}"))
    lift = lift_of(previous, close, then.variance.sum(axis=0))
    shares, contracts = then.activity.step(lift, stream(f"activity {label}"))
    shares[earnings.company[hit]] *= REPORT_SHARES
    contracts[earnings.company[hit]] *= REPORT_CONTRACTS
    volume = np.round(shares, -2)
    volume[[name.kind == "index" for name in names]] = np.nan
    then.closes = np.concatenate([then.closes, np.round(close, 2)[:, None]], axis=1)[:, -KEPT_CLOSES:]
    ground = _ground(then, calendar, earnings, before, np.round(contracts).astype(np.int64))

    listed = _listed(ground, _opened(session))
    held = stream(f"interest {label}")
    morning = then.interest.morning(ground, 1, listed, held)
    traded, moved = then.interest.trade(morning, held)
    then.interest.end(morning, moved)
    book = morning.book(1, traded)
    steps = np.exp(np.stack([walked.before, walked.top, walked.bottom, walked.after]))[:, :, None]
    ends = np.exp(walked.before[:, 0]), close
    night = _night(then, previous, ends, earnings, stream(f"night {label}"))
    regular = regular_bars(
        steps,
        calendar[1:2],
        volume[:, None],
        np.ones((len(names), 1), dtype=bool),
        np.full(len(names), _MINUTES),
        stream(f"minutes {label}"),
    )
    made = _made(then, ground, book, _Stretch(0, _in_turn(traded), regular, night, volume))
    then.session = session
    nothing = np.zeros(2 * book.strike.size, dtype=np.int64)
    return Day(ground, book, made, 0, nothing, np.empty((5, 0)), then)


def _rest(then: Onward) -> Day:
    """The last quarter hour of the session that the market was made in, and its evening."""
    calendar = sessions_from(then.session, _AHEAD)
    before = sessions_from(then.session - np.timedelta64(7, "D"), 20)
    calendar = np.concatenate([before[before < then.session][-1:], calendar])
    names, stream, label = then.names, then.stream, f"{then.session} rest"
    earnings = then.earnings_from(calendar[0])
    walked = then.walk.quarter(stream(f"paths {label}"), then.own_factor, then.halted[: then.own_factor.size])
    steps = np.exp(np.stack([walked.before, walked.top, walked.bottom, walked.after]))[:, :, None]
    usual = np.nan_to_num(then.activity.shares) * (1 / UNTIL_NOW - 1)
    drawn = stream(f"activity {label}")
    volume = np.round(usual * np.exp(0.3 * drawn.normal(size=usual.size)), -2)
    volume[[name.kind == "index" for name in names] | then.halted] = np.nan
    then.closes = np.concatenate([then.closes[:, :-1], np.round(np.exp(walked.after[:, -1:]), 2)], axis=1)
    now = then.variance, then.premium_now, then.smile_now
    ground = _ground(then, calendar, earnings, now, np.zeros(len(names), dtype=np.int64))

    interest = then.interest
    assert interest.listed is not None
    assert interest.before is not None
    assert interest.interest is not None
    listed = _listed(ground, AS_OF)
    expiry = np.repeat(np.arange(interest.listed.key.size), interest.listed.strikes)
    number = np.arange(expiry.size) - (np.cumsum(interest.listed.strikes) - interest.listed.strikes)[expiry]
    strike = (interest.listed.low[expiry] + number) * interest.listed.step[expiry]
    quoted = ~then.halted[listed.name[expiry]]
    more = np.where(quoted, drawn.poisson(then.volume * (1 / UNTIL_NOW - 1)), 0)
    opened = drawn.binomial(more, 0.5)
    interest.interest = interest.interest + opened
    book = Book(1, listed, expiry, strike, *more, *interest.before.astype(np.int64))
    everybody = np.where(then.halted, 0, _MINUTES)
    begins = _MINUTES - _QUARTER
    regular = regular_bars(
        steps,
        calendar[1:2],
        volume[:, None],
        np.ones((len(names), 1), dtype=bool),
        everybody,
        stream(f"minutes {label}"),
        begins,
    )
    ends = np.exp(walked.before[:, 0]), np.exp(walked.after[:, -1])
    night = _night(then, None, ends, earnings, stream(f"night {label}"))
    made = _made(then, ground, book, _Stretch(begins, _in_turn(more), regular, night, volume))
    so_far = _in_turn(then.volume)
    bar = then.bar
    then.unfinished, then.volume, then.bar = False, np.zeros((2, 0), dtype=np.int64), np.empty((5, 0))
    return Day(ground, book, made, begins, so_far, bar, then)


class _Stretch(NamedTuple):
    """What is made of a session from a minute on: what trades of each contract of the book, calls and puts in turn, the minutes
    of regular hours, what is seen outside them, and the shares that trade."""

    begins: int
    contracts: Whole
    regular: pl.DataFrame
    night: ExtendedHours
    volume: Floats


def _in_turn(rows: NDArray[Any]) -> Whole:
    """Calls and puts, shape (2, rows), as a chain has them."""
    return rows.astype(np.int64).T.reshape(-1)


def _made(then: Onward, ground: Ground, book: Book, stretch: _Stretch) -> Made:
    names, session, stream = ground.names, ground.calendar[1], then.stream
    label, sessions = f"{session} {stretch.begins}", ground.calendar[1:2]
    # Of the session that the market was made in the middle of no more goes wrong than did.
    halt = None if stretch.begins else draw_halt(names, stream(f"halt {label}"))
    regular, midnight = without_halted(stretch.regular, halt, _opened(session)), _from_midnight(session)
    opens, everybody = session_opens(sessions), np.ones(len(names))
    awake = ~ground.halted[:, None]
    spots = minute_closes(regular, sessions, ground.close)[1]
    ends = dt.datetime.combine(session.astype(object), CLOSE, EXCHANGE_ZONE)
    # What ends with the session is quoted to its last minute.
    years = np.maximum(years_to_close(book.expiries.expiration, ends), _MINUTE_YEARS)
    expiries = book.expiries._replace(years=years, vol=vols_during(ground, book, years, 1.0))
    quotes = stream(f"quotes {session} close")
    chain = quote_book(ground, book, expiries, ground.close[:, 1], everybody, ground.halted, quotes)
    last = Snapshot(ends, 1, ground.close[:, 1], expiries, chain)
    span = (stretch.begins * 60_000, _DAY_MS)
    tape = stretch_tape(ground, last, stretch.contracts, span, spots, stream(f"tape {label}"))
    if not stretch.begins:
        tape = amended(after_halt(tape, halt, midnight), midnight + _DAY_MS, stream(f"mishaps {label}"))
    bars = _day_bars(regular)
    seen = {key: ground.close[:, :1].copy() for key in ("open", "high", "low", "close")}
    for key, values in seen.items():
        values[bars["name"].to_numpy(), 0] = bars[key].to_numpy()
    whole = np.full(len(names), _DAY_MS)
    days = Days(**seen, volume=stretch.volume[:, None], traded=awake, ends=whole, over=True)
    prints = after_halt(day_prints(names, sessions, days, spots, span[0], stream(f"prints {label}")), halt, midnight)
    night, outside = stretch.night, []
    if not stretch.begins:
        seen_before = (
            night.pre_last[:, None],
            night.pre_volume[:, None],
            awake,
            opens,
            names,
            stream(f"morning {label}"),
        )
        extremes = night.pre_high[:, None], night.pre_low[:, None]
        outside.append(thin_bars(MORNING, ground.close[:, :1], *seen_before, extremes))
    seen_after = night.post_last[:, None], night.post_volume[:, None], awake, opens, names, stream(f"evening {label}")
    outside.append(thin_bars(EVENING, ground.close[:, 1:2], *seen_after, None))
    minutes = pl.concat([regular, *outside]).sort("name", "at")
    news = _news(then, ground, stream(f"news {label}"))
    return Made(_without_ended(last, session), spots, minutes, tape, prints, news, night, halt)


def _without_ended(snapshot: Snapshot, session: np.datetime64) -> Snapshot:
    """The chains without what expired with the session."""
    expiries, chain = snapshot.expiries, snapshot.chain
    stays = expiries.expiration > session
    rows = stays[chain.expiry]
    place = np.cumsum(stays) - 1
    kept = chain._replace(**{key: values[rows] for key, values in chain._asdict().items()})
    left = expiries._replace(**{key: values[stays] for key, values in expiries._asdict().items()})
    return snapshot._replace(expiries=left, chain=kept._replace(expiry=place[kept.expiry]))


def _ground(
    then: Onward,
    calendar: DateArray,
    earnings: EarningsCalendar,
    before: tuple[Floats, Floats, Smile],
    option_volume: NDArray[np.int64],
) -> Ground:
    """Two sessions: the one before, of which variance, premium and smiles are told, and the one that `then` is at."""
    variance, premium, smile = before
    none = np.empty(0)
    return Ground(
        names=then.names,
        planted={story.symbol: story for story in storylines()} if then.planted else {},
        groups=listing_groups(then.names, then.weekly),
        calendar=calendar,
        paths=Paths(
            none,
            none,
            none,
            none,
            variance=np.stack([variance, then.variance], axis=2),
            long_variance=then.long_variance,
            spread=then.spread,
            steps=none,
            own_factor=then.own_factor,
        ),
        close=then.closes[:, -2:],
        premium=np.stack([premium, then.premium_now], axis=1),
        smiles=Smile(*(np.stack(pair, axis=1) for pair in zip(smile, then.smile_now, strict=True))),
        earnings=earnings,
        option_volume=np.stack([np.zeros_like(option_volume), option_volume], axis=1),
        carry=then.carry,
        multiplier=then.multiplier,
        halted=then.halted,
    )


def _listed(ground: Ground, moment: dt.datetime) -> Expiries:
    """Expirations that are listed in the session at a moment of it: those that end with it too."""
    before, session = ground.calendar[:2]
    parts = []
    for size, weekly, members in ground.groups:
        ends_now = np.intersect1d(listed_expirations(before, size, weekly), [session])
        listed = np.union1d(ends_now, listed_expirations(session, size, weekly))
        years = years_to_close(listed, moment)
        vol = vols_at(ground, 1, listed, years, members)
        parts.append((Priced(members, listed, (listed - session).astype(np.int64), vol), years, vol))
    return ordered_expiries(parts)


def _night(
    then: Onward,
    previous: Floats | None,
    ends: tuple[Floats, Floats],
    earnings: EarningsCalendar,
    rng: np.random.Generator,
) -> ExtendedHours:
    """What is seen before the open and after the close, which are the `ends`; nothing before it where no close before is told.
    Who reports in the evening moves then by most of what follows."""
    names, (opened, close) = then.names, ends
    count = len(names)
    typical, half = np.nan_to_num(then.activity.shares), np.array([SIZES[name.size].half_spread_vol for name in names])
    usual, quiet = (np.array([table[name.size] for name in names]) for table in (USUAL, QUIET))
    nobody = np.array([name.kind == "index" for name in names]) | then.halted
    expected = 0.8 * np.sqrt(OVERNIGHT_SHARE * then.variance.sum(axis=0) / 252)
    spread = 0.12 * half
    drawn, awake = rng.normal(size=(7, count)), rng.random((3, count))

    def seen(values: Floats, surprise: Floats, place: int, decimals: int) -> Floats:
        there = (awake[place] >= quiet * np.exp(-0.7 * np.maximum(surprise - 1, 0))) & ~nobody
        return np.where(there, np.round(values, decimals), np.nan)

    before = [np.full(count, np.nan)] * 4
    if previous is not None:
        night = np.log(opened / previous)
        surprise = np.abs(night) / expected
        reached = previous * np.exp(night * np.clip(0.25 + 0.15 * drawn[0], 0.0, 0.9))
        last = previous * np.exp(night + spread * drawn[1])
        reach = np.abs(drawn[2:4]) * (spread + 0.25 * np.abs(night))
        high = np.maximum(last, reached) * np.exp(0.5 * reach[0])
        low = np.minimum(last, reached) * np.exp(-0.5 * reach[1])
        volume = typical * usual * np.exp(0.6 * drawn[4]) * (0.5 + 0.5 * surprise**1.3)
        before = [seen(v, surprise, 0, d) for v, d in ((high, 2), (low, 2), (last, 2), (volume, -1))]
    moved = 0.1 * expected * drawn[5]
    told = (earnings.announced == 1) & ~earnings.before_open
    moved[earnings.company[told]] = earnings.jump[told] * (0.7 + 0.4 * awake[2][earnings.company[told]])
    surprise = np.abs(moved) / expected
    volume = typical * usual * 0.6 * np.exp(0.6 * drawn[6]) * (0.6 + 0.4 * surprise**1.3)
    after = [seen(v, surprise, 1, d) for v, d in ((close * np.exp(moved), 2), (volume, -1))]
    return ExtendedHours(*before, *after)


def _news(then: Onward, ground: Ground, rng: np.random.Generator) -> pl.DataFrame:
    """Headlines from the evening before, or from the moment that the market was made, until that of this session."""
    place = int(np.searchsorted(all_sessions(), ground.calendar[1]))
    sessions = all_sessions()[place - KEPT_CLOSES + 1 : place + 1]
    offset = place - KEPT_CLOSES + 1
    earnings = then.earnings._replace(
        announced=then.earnings.announced - offset, reaction=then.earnings.reaction - offset
    )
    told = make_news(then.names, sessions, then.closes, np.ones(then.closes.shape, dtype=bool), earnings, rng)
    evening = dt.timedelta(minutes=_MINUTES + _EVENING_ENDS)
    first = AS_OF if then.unfinished else _opened(ground.calendar[0]) + evening
    between = [
        (moment.astimezone(dt.UTC)).replace(tzinfo=None) for moment in (first, _opened(ground.calendar[1]) + evening)
    ]
    return told.filter((pl.col("at") > between[0]) & (pl.col("at") <= between[1]))


def _opened(session: np.datetime64) -> dt.datetime:
    return dt.datetime.combine(session.astype(object), OPEN, EXCHANGE_ZONE)


def _from_midnight(session: np.datetime64) -> int:
    """Milliseconds from midnight in UTC to a session's open."""
    opened = session_opens(np.array([session]))[0].astype("datetime64[ms]")
    return int((opened - session.astype("datetime64[ms]")).astype(np.int64))
