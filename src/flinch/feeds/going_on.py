"""The simulated exchange as a source that goes on: it tells one moment after the other, from where the market is.

What a session holds is made before its first moment and does not depend on when, or by how many processes, it is told. Rows of a
moment replace what is there of them, so one that was ended in the middle is told again, and nothing is there twice.
"""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, select

from flinch.clock import wall
from flinch.core.arrays import find
from flinch.feeds.load_simulated import write_snapshot
from flinch.feeds.publish import publish, publish_flow
from flinch.feeds.simulated.calendar import all_sessions
from flinch.feeds.simulated.day import Day, next_day
from flinch.feeds.simulated.facts_onward import QUARTER, Company, Facts, facts_of_session
from flinch.feeds.simulated.onward import Onward
from flinch.hours import read_hours
from flinch.store.bulk import replace_rows
from flinch.store.market.chain import read_snapshots, stored
from flinch.store.market.looks import carry_look, forget_looks
from flinch.store.market.minutes import minute_rows, read_minutes
from flinch.store.market.models import (
    DailyBar,
    Dividend,
    EarningsReport,
    Estimate,
    ExtendedDay,
    Fundamental,
    MinuteDay,
    NewsItem,
    PrintDay,
    ShortInterest,
    TapeDay,
)
from flinch.store.market.names import read_names
from flinch.store.market.prints import print_rows, read_prints
from flinch.store.market.run import keep_exchange, read_exchange, read_run, say_alive, set_run
from flinch.store.market.state import advance, begin_moment, read_state
from flinch.store.market.tape import read_tape, tape_rows
from flinch.store.market.writing import alone, between_moments
from flinch.store.reading import Floats, dates, numbers, read_table

_PATIENCE = 600
_BARS = ("open", "high", "low", "close", "volume")


class Told(NamedTuple):
    """A moment that was told: when, and whether chains came with it."""

    at: dt.datetime
    chains: bool


class Exchange:
    """The exchange from the moment that a market is at."""

    def __init__(self, engine: Engine) -> None:
        """Raises RuntimeError for a market that the simulated exchange has not made."""
        self._engine = engine
        state = read_state(engine)
        assert state is not None, "a market that goes on is there"
        self._as_of = state.as_of
        kept = read_exchange(engine, read_hours(engine).day_of(state.as_of))
        if kept is None:
            raise RuntimeError("the simulated exchange has not made this market")
        self._begin(Onward.from_bytes(kept[1]))

    def _begin(self, onward: Onward) -> None:
        self._day, self._then = next_day(onward)
        self._so_far = _SoFar(self._engine, self._day)
        self._left = [moment for moment in self._day.moments if moment > self._as_of]
        if not self._left:
            self._begin(self._then)

    @property
    def as_of(self) -> dt.datetime:
        """The moment that was told last."""
        return self._as_of

    @property
    def next(self) -> dt.datetime:
        """The moment that comes next."""
        return self._left[0]

    def step(self) -> Told:
        """Tell the next moment: its rows are written and published, and only then it is served."""
        moment, day = self._left[0], self._day
        turns = moment == day.moments[0] and not day.begins
        with alone(self._engine, _PATIENCE), between_moments(self._engine, _PATIENCE):
            # Who was ended in the middle begins again.
            begin_moment(self._engine)
            if turns:
                self._turn(day)
            looked = day.looked_at(moment)
            traded = self._write(day, moment)
            if looked.any():
                self._look(day, moment, looked)
            elif traded:
                publish_flow(self._engine, moment)
            advance(self._engine, moment, past_changed=turns)
        self._as_of = moment
        del self._left[0]
        if not self._left:
            keep_exchange(self._engine, day.day, self._then.to_bytes())
            self._begin(self._then)
        return Told(moment, bool(looked.any()))

    def _look(self, day: Day, moment: dt.datetime, looked: NDArray[np.bool_]) -> None:
        """Write and publish the chains of those that are looked at; what is there of the others stands."""
        snapshot = day.snapshot(moment, None if looked.all() else looked)
        adjusted = [rows for rows in day.adjusted(snapshot) if looked[rows.name]]
        write_snapshot(self._engine, snapshot, day.day, looked, adjusted)
        if looked.all():
            publish(self._engine, moment)
            return
        names = (np.flatnonzero(looked) + 1).tolist()
        before = [look.taken_at for look in read_snapshots(self._engine) if look.taken_at < moment]
        carry_look(self._engine, before[-1], moment, names)
        publish(self._engine, moment, names)

    def _turn(self, day: Day) -> None:
        """The session before is one like others, and this one begins."""
        before: dt.date = day.ground.calendar[0].astype(object)
        forget_looks(self._engine, before)
        reports = day.reports()
        timing = pl.when(pl.col("before_open")).then(pl.lit("before_open")).otherwise(pl.lit("after_close"))
        replace_rows(
            self._engine,
            EarningsReport,
            reports.select(
                (pl.col("company") + 1).alias("name_id"),
                "session",
                pl.lit(day.day).alias("known_on"),
                timing.alias("timing"),
            ),
        )
        self._tell_facts(day)

    def _tell_facts(self, day: Day) -> None:
        """What becomes known of the companies with the morning of a session."""
        ground, session = day.ground, day.session
        names = read_names(self._engine)
        company = Company(day.names, ground.planted, numbers(names["shares_outstanding"]), ground.carry)
        reported = ground.earnings.company[ground.earnings.reaction == 1]
        tables = (Fundamental, Estimate, Dividend, ShortInterest)
        known = Facts(*(read_table(self._engine, select(table)) for table in tables))
        closes = self._closes_before(day)
        told = facts_of_session(session, company, reported, closes, known, day.stream(f"facts {session}"))
        for table, rows in zip(tables, told, strict=True):
            replace_rows(self._engine, table, rows)

    def _closes_before(self, day: Day) -> Floats:
        """Closes of a quarter before a session, names x sessions, the newest last."""
        sessions = all_sessions()
        end = int(np.searchsorted(sessions, day.session))
        wanted = sessions[end - QUARTER - 1 : end]
        within = DailyBar.session.between(wanted[0].astype(object), wanted[-1].astype(object))
        bars = read_table(self._engine, select(DailyBar.name_id, DailyBar.session, DailyBar.close).where(within))
        closes = np.full((len(day.names), wanted.size), np.nan)
        closes[bars["name_id"].to_numpy() - 1, find(wanted, dates(bars["session"]))] = numbers(bars["close"])
        return closes

    def _write(self, day: Day, moment: dt.datetime) -> bool:
        """Write what there is more of; whether options traded."""
        ids = np.arange(1, len(day.names) + 1)
        keys = {"session": [day.day] * ids.size, "name_id": ids}
        bars = pl.DataFrame(keys | dict(zip(_BARS, day.bar(moment), strict=True)))
        replace_rows(self._engine, DailyBar, bars.filter(pl.col("close").is_finite()))
        replace_rows(self._engine, ExtendedDay, pl.DataFrame(keys | day.outside(moment) | self._so_far.morning))
        minutes, tape, prints = self._so_far.between(self._as_of, moment)
        for table, rows, packed in (
            (MinuteDay, minutes, minute_rows),
            (TapeDay, tape, tape_rows),
            (PrintDay, prints, print_rows),
        ):
            if rows.height:
                replace_rows(self._engine, table, packed(rows))
        news = day.made.news.filter((pl.col("at") > stored(self._as_of)) & (pl.col("at") <= stored(moment)))
        if news.height:
            replace_rows(self._engine, NewsItem, news.rename({"name": "name_id"}).with_columns(pl.col("name_id") + 1))
        return tape.height > 0


class _SoFar:
    """What a session holds up to a moment: what was there when the exchange began to go on, and what it told since."""

    morning: dict[str, pl.Series]
    """What was seen before the open, where the day does not tell it."""

    def __init__(self, engine: Engine, day: Day) -> None:
        self.morning = {}
        made, session = day.made, pl.lit(day.day).alias("session")
        self._day = day
        self._minutes, self._tape, self._prints = (
            rows.rename({"name": "name_id"}).with_columns(pl.col("name_id") + 1, session)
            for rows in (made.minutes, made.tape, made.prints)
        )
        if not day.begins:
            return
        kept = read_table(engine, select(ExtendedDay).where(ExtendedDay.session == day.day))
        ids = pl.DataFrame({"name_id": np.arange(1, len(day.names) + 1)}, schema=kept.select("name_id").schema)
        there = ids.join(kept, on="name_id", how="left", maintain_order="left")
        self.morning = {key: there[key] for key in there.columns if key.startswith("pre_")}
        names, days = (1, len(day.names)), (day.day, day.day)
        began = day.opened + dt.timedelta(minutes=day.begins)
        minutes = read_minutes(engine, names, days, as_told=True).filter(pl.col("at") < stored(began))
        self._minutes = pl.concat([minutes.select(self._minutes.columns).cast(self._minutes.schema), self._minutes])
        tape = read_tape(engine, names, days, as_told=True).filter(pl.col("at") < self._since(began))
        self._tape = pl.concat([tape.select(self._tape.columns).cast(self._tape.schema), self._tape])
        prints = read_prints(engine, names, days, as_told=True).filter(pl.col("at") < self._since(began))
        self._prints = pl.concat([prints.select(self._prints.columns).cast(self._prints.schema), self._prints])

    def between(self, before: dt.datetime, moment: dt.datetime) -> tuple[pl.DataFrame, pl.DataFrame, pl.DataFrame]:
        """Minutes that are over by a moment, fills and prints that were told by then, of the names of which there are more than
        at the moment before."""
        return (
            _of_changed(self._minutes, stored(before), stored(moment)),
            _of_changed(self._tape, self._since(before), self._since(moment)),
            _of_changed(self._prints, self._since(before), self._since(moment)),
        )

    def _since(self, moment: dt.datetime) -> int:
        """Milliseconds from the session's midnight in UTC."""
        midnight = dt.datetime.combine(self._day.day, dt.time(), dt.UTC)
        return (moment - midnight) // dt.timedelta(milliseconds=1)


def _of_changed(rows: pl.DataFrame, before: dt.datetime | int, now: dt.datetime | int) -> pl.DataFrame:
    """Up to now, a name's session being one row, those of the names that have one since before."""
    there = rows.filter(pl.col("at") < now)
    return there.join(there.filter(pl.col("at") >= before).select("name_id").unique(), on="name_id", how="semi")


_LOOK_SECONDS, _ALIVE_SECONDS, _IDLE_SECONDS = 0.1, 1.0, 60.0


def go_on(engine: Engine, stopped: threading.Event, clock: Callable[[], float] = time.monotonic) -> None:
    """Run the exchange of a market as it is told to, until it has stood still for a while, or is `stopped`. Nothing else here
    looks at a clock, so nothing else is different when it runs faster."""
    exchange: Exchange | None = None
    pace: _Pace | None = None
    said, moved = -1e9, clock()
    while not stopped.is_set():
        run = read_run(engine)
        if run is None or clock() - moved >= _IDLE_SECONDS:
            return
        if not run.still:
            exchange, moved = exchange or Exchange(engine), clock()
        if run.still or exchange is None:
            pace = None
        elif run.until is not None:
            pace = None
            if exchange.next > run.until:
                set_run(engine, 0, None)
            else:
                exchange.step()
        else:
            if pace is None or pace.speed != run.speed:
                pace = _Pace(run.speed, clock(), exchange.as_of)
            if pace.due(exchange.next) <= clock():
                exchange.step()
        if clock() - said >= _ALIVE_SECONDS:
            behind = 0.0 if pace is None or exchange is None else pace.behind(exchange.as_of, exchange.next, clock())
            say_alive(engine, wall(), behind)
            said = clock()
        stopped.wait(_LOOK_SECONDS)


class _Pace:
    """When moments are due, from the clock and the moment at which it began to run so."""

    def __init__(self, speed: int, began: float, moment: dt.datetime) -> None:
        self.speed, self._began, self._moment = speed, began, moment

    def due(self, moment: dt.datetime) -> float:
        return self._began + (moment - self._moment).total_seconds() / self.speed

    def behind(self, told: dt.datetime, following: dt.datetime, now: float) -> float:
        """Seconds of the market by which what was told last is late."""
        if self.due(following) >= now:
            return 0.0
        return max(0.0, (now - self._began) * self.speed - (told - self._moment).total_seconds())
