"""The exchange tells its moments into a market: each whole, in order, once, also when its process is ended in the middle."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pytest
from flask_openapi3 import OpenAPI
from sqlalchemy import Engine, select, text
from tests.every_route import pages
from tests.kept_market import copied_database

from flinch.app import create_app
from flinch.clock import wall
from flinch.demo import tell_again
from flinch.features.dossier.chain import chain
from flinch.features.dossier.positioning import positioning
from flinch.features.dossier.positioning_schemas import PositioningQuery
from flinch.feeds import going_on
from flinch.feeds.going_on import Exchange, go_on
from flinch.feeds.publish import publish
from flinch.feeds.state import demo_market_loaded
from flinch.market import load_frame, opened, view_at
from flinch.market.holder import MarketHolder
from flinch.market.prints import market_prints
from flinch.market.tickets import read_ticket_day
from flinch.settings import Settings
from flinch.store.databases import DEMO
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.chain import read_contracts, read_snapshots, stored
from flinch.store.market.looks import read_own_looks
from flinch.store.market.minutes import read_minutes
from flinch.store.market.models import (
    DailyBar,
    Dividend,
    Estimate,
    ExpiryVolatility,
    ExtendedDay,
    FlowDay,
    MarketBase,
    Position,
)
from flinch.store.market.prints import read_prints
from flinch.store.market.run import Run, begin_exchange, keep_exchange, read_exchange, read_run, set_run
from flinch.store.market.state import begin_moment, read_state
from flinch.store.market.tape import read_tape
from flinch.store.market.writing import between_moments
from flinch.store.reading import read_table

TUESDAY = "2026-09-08"
SEEN = dt.datetime(2026, 9, 9, 15, 53)
WEDNESDAY, THURSDAY = dt.date(2026, 9, 9), dt.date(2026, 9, 10)


@pytest.fixture(scope="module")
def moving(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LocalServer]:
    """A demo market of its own, which the tests of this file move on together."""
    server = copied_database(tmp_path_factory.mktemp("going") / "database")
    server.start()
    yield server
    server.stop()
    server.erase()


@pytest.fixture(scope="module")
def going(moving: LocalServer) -> Iterator[Engine]:
    engine = make_engine(moving.market_url)
    yield engine
    engine.dispose()


@pytest.fixture(scope="module")
def everywhere(moving: LocalServer, tmp_path_factory: pytest.TempPathFactory) -> Iterator[OpenAPI]:
    """All pages of it."""
    columns = tmp_path_factory.mktemp("columns")
    app = create_app(Settings(columns=columns), moving.databases)
    yield app
    running = app.extensions["flinch"]
    for part in (running.live, running.jobs, running.files, running.inbox):
        part.close()
    shutil.rmtree(columns)


def looked_at(app: OpenAPI, day: str | None = None) -> dict[str, Any]:
    """Every page of the newest version, or as of a day."""
    app.extensions["flinch"].markets.open(DEMO).holder.renew()
    return pages(app.test_client(), app, day)


def rows_of(engine: Engine, session: dt.date) -> dict[str, pl.DataFrame]:
    """What is kept of a session, as it was told."""
    everybody, day = (1, 10_000), (session, session)
    tables = {
        table.__tablename__: read_table(engine, select(table).where(table.session == session)).sort("name_id")
        for table in (DailyBar, ExtendedDay, FlowDay)
    }
    return tables | {
        "minutes": read_minutes(engine, everybody, day, as_told=True),
        "tape": read_tape(engine, everybody, day, as_told=True),
        "prints": read_prints(engine, everybody, day, as_told=True),
    }


def hashes(engine: Engine, columns: Path) -> dict[str, str]:
    """Of every column of the market up to Tuesday, and of what is kept of it beside."""
    frame = load_frame(engine, columns)
    assert frame is not None
    last = int(np.searchsorted(frame.sessions, np.datetime64("2026-09-08", "D")))
    cut = frame.until(last)
    arrays: dict[str, Any] = {"close": cut.close, "volume": cut.volume, **cut.daily, **cut.derived}
    arrays |= {str(days): values for days, values in cut.implied.items()}
    kept = {key: hashlib.sha256(np.ascontiguousarray(values).tobytes()).hexdigest() for key, values in arrays.items()}
    for table in ("surface_day", "tape_day", "print_day", "minute_day", "volatility_day", "position"):
        day = "taken_at" if table == "position" else "session"
        with engine.connect() as connection:
            rows = connection.execute(text(f"SELECT * FROM {table} WHERE {day} < '2026-09-09' ORDER BY 1, 2")).all()
        kept[table] = hashlib.sha256(repr(rows).encode()).hexdigest()
    return kept


def test_moments_come_in_order_each_whole_and_the_day_turns(going: Engine, everywhere: OpenAPI, tmp_path: Path):
    before, tuesday = hashes(going, tmp_path / "before"), looked_at(everywhere, TUESDAY)
    morning = read_table(going, select(ExtendedDay).where(ExtendedDay.session == WEDNESDAY)).sort("name_id")
    exchange = Exchange(going)
    assert exchange.next == dt.datetime(2026, 9, 9, 19, 46, tzinfo=dt.UTC)
    with_chains = 0
    for minute in range(46, 61):
        told = exchange.step()
        assert told.at == dt.datetime(2026, 9, 9, 19, 0, tzinfo=dt.UTC) + dt.timedelta(minutes=minute)
        assert told.chains == (minute % 5 == 0)
        with_chains += told.chains
        if minute == SEEN.minute:
            frame = load_frame(going, tmp_path / "seen")
            assert frame is not None
            seen = opened(frame, going)
            bursts, tickets = market_prints(seen).bursts, read_ticket_day(seen, seen.last)
        state = read_state(going)
        assert state is not None
        assert (state.as_of, state.whole) == (told.at, True)
        minutes = read_minutes(going, (1, 10_000), (WEDNESDAY, WEDNESDAY), as_told=True)
        newest = minutes.filter(pl.col("at").dt.hour() < 20)["at"].max()
        assert newest == stored(told.at) - dt.timedelta(minutes=1)
    assert with_chains == 3
    rows = rows_of(going, WEDNESDAY)
    # What was there before is still there: the morning, and the trades until a quarter to four.
    after = rows["extended_day"]
    assert all(after[key].equals(morning[key]) for key in ("name_id", "pre_high", "pre_last", "pre_volume"))
    opened_at = 13 * 3_600_000 + 1_800_000
    assert rows["tape"].filter(pl.col("at") < opened_at + 60_000).height > 500
    assert rows["minutes"].filter(pl.col("name_id") == 1).height > 389
    frame = load_frame(going, tmp_path / "columns")
    assert frame is not None
    view = opened(frame, going)
    assert view.as_of.astimezone(dt.UTC) == dt.datetime(2026, 9, 9, 20, tzinfo=dt.UTC)
    assert np.isfinite(view.metric("iv30")).mean() > 0.97

    # The close, and moments between two looks at the chains.
    assert looked_at(everywhere)
    while exchange.next.date() == WEDNESDAY or exchange.next < dt.datetime(2026, 9, 10, 12, tzinfo=dt.UTC):
        exchange.step()
    assert looked_at(everywhere), "in the evening"
    evening = rows_of(going, WEDNESDAY)["extended_day"]
    assert evening["post_last"].is_not_null().sum() > 250
    state = read_state(going)
    assert state is not None
    past = state.past_version
    # Whoever begins in the evening, when all of the session is told, goes on with the next one.
    first = Exchange(going).step()
    assert first.at == dt.datetime(2026, 9, 10, 13, 35, tzinfo=dt.UTC)
    state = read_state(going)
    assert state is not None
    assert state.past_version == state.data_version > past
    # Wednesday is a session like others: of its looks at the chains the close alone is kept.
    looks = [s.taken_at for s in read_snapshots(going) if s.session == WEDNESDAY]
    assert looks == [dt.datetime(2026, 9, 9, 20, tzinfo=dt.UTC)]
    assert hashes(going, tmp_path / "after") == before
    assert looked_at(everywhere)
    for name, page in looked_at(everywhere, TUESDAY).items():
        assert json.dumps(page) == json.dumps(tuesday[name]), name
    frame = load_frame(going, tmp_path / "turned")
    assert frame is not None
    assert frame.sessions[-1] == np.datetime64(THURSDAY)
    assert np.isfinite(frame.close[:, -1]).all()
    # A minute of Wednesday that is played again is what it was when it was told.
    again = view_at(opened(frame, going), SEEN)
    assert (again.as_of, again.last) == (seen.as_of, seen.last)
    for field in ("open", "high", "low", "close", "volume"):
        assert np.array_equal(getattr(again.frame, field), getattr(seen.frame, field), equal_nan=True), field
    # What leans on the surfaces of a look that is not kept comes from the close before.
    leaning = {"net_shares"}
    flow = {column.name for column in FlowDay.__table__.columns} - {"session", "name_id"} - leaning
    for field in (
        *flow,
        "headlines",
        "pre_high",
        "pre_low",
        "pre_last",
        "pre_volume",
        "days_to_earnings",
        "short_shares",
    ):
        one, other = again.frame.daily[field][:, -1], seen.frame.daily[field][:, -1]
        assert np.allclose(one, other, rtol=1e-6, equal_nan=True), field
    assert np.isfinite(again.frame.daily["call_ask_premium"][:, -1]).mean() > 0.9
    for one, other in zip(market_prints(again).bursts, bursts, strict=True):
        assert np.array_equal(one, other)
    told_again = read_ticket_day(again, again.last)
    for key in ("name", "first", "premium", "contracts", "side", "ticket_kind", "price_then", "opening", "package"):
        assert np.array_equal(told_again.columns[key], tickets.columns[key], equal_nan=True), key
    assert again.expirations(again.row("TARNO"))[0].expiration == dt.date(2026, 9, 11)
    # What became known of the companies that morning.
    declared = read_table(going, select(Dividend).where(Dividend.declared_on == THURSDAY)).sort("name_id")
    assert declared.height > 0
    rows = declared["name_id"].to_numpy() - 1
    assert np.allclose(frame.daily["next_dividend"][rows, -1], declared["amount"].to_numpy())
    assert np.isnan(frame.daily["next_dividend"][rows, -2]).all()
    expected = read_table(going, select(Estimate).where(Estimate.known_on == THURSDAY))
    assert expected.height > 5
    assert (frame.daily["estimates_age"][expected["name_id"].to_numpy() - 1, -1] == 0).all()


def test_one_that_was_ended_in_the_middle_tells_the_moment_again_as_if_it_had_not_been(
    going: Engine, monkeypatch: pytest.MonkeyPatch
):
    exchange = Exchange(going)
    while exchange.as_of < dt.datetime(2026, 9, 10, 13, 35, tzinfo=dt.UTC):
        exchange.step()
    told = []
    for place in ("write_snapshot", "publish", "publish_flow", "advance", "replace_rows"):
        exchange = Exchange(going)
        before, wanted = exchange.as_of, exchange.next
        with monkeypatch.context() as patch:
            patch.setattr(going_on, place, _killed)
            try:
                exchange.step()
            except KeyboardInterrupt:
                state = read_state(going)
                assert state is not None
                assert (state.as_of, state.whole) == (before, False)
                assert demo_market_loaded(going), "a moment that comes again is no half made market"
            else:
                assert place in ("write_snapshot", "publish", "publish_flow"), "not every moment has them"
        exchange = Exchange(going)
        told.append(exchange.step().at if exchange.as_of == before else exchange.as_of)
        assert told[-1] == wanted
    assert told == [told[0] + dt.timedelta(minutes=place) for place in range(5)]
    # What is there is what one that was never stopped would have told.
    exchange = Exchange(going)
    day, rows = exchange._day, rows_of(going, THURSDAY)
    bar = day.bar(exchange.as_of)
    assert np.allclose(rows["daily_bar"]["close"].to_numpy(), bar[3], equal_nan=True)
    volume = np.round(np.nan_to_num(bar[4]))
    assert np.array_equal(np.nan_to_num(rows["daily_bar"]["volume"].cast(float).to_numpy()), volume)
    upto = (exchange.as_of - dt.datetime(2026, 9, 10, tzinfo=dt.UTC)) // dt.timedelta(milliseconds=1)
    wanted_tape = day.made.tape.filter(pl.col("at") < upto)
    assert rows["tape"].height == wanted_tape.height
    assert rows["tape"]["contracts"].sum() == wanted_tape["contracts"].sum()
    assert rows["prints"].height == day.made.prints.filter(pl.col("at") < upto).height


def test_who_moves_far_between_two_looks_is_looked_at_at_once_and_what_was_seen_of_others_stands(
    going: Engine, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
):
    exchange = Exchange(going)
    while exchange._day.day < THURSDAY:
        exchange._left = exchange._left[-1:]
        exchange.step()
    # From the look at all chains but one before the first look at some of them.
    looked = {moment: exchange._day.looked_at(moment) for moment in exchange._day.moments}
    first = next(moment for moment, names in looked.items() if 0 < names.sum() < names.size)
    whole = [moment for moment, names in looked.items() if moment < first and names.all()][-2:]
    exchange._left = [moment for moment in looked if moment in whole or moment > whole[-1]]
    while exchange.next < first:
        exchange.step()
    [name] = np.flatnonzero(looked[first]) + 1
    for place in ("carry_look", "publish", "advance"):
        with monkeypatch.context() as patch:
            patch.setattr(going_on, place, _killed)
            with pytest.raises(KeyboardInterrupt):
                exchange.step()
    assert exchange.step() == (first, True)

    key, quotes = ["name_id", "expiration", "strike", "is_call"], ["bid", "ask"]
    one, other = (read_contracts(going, moment).select(*key, *quotes) for moment in (whole[-1], first))
    mine, others = pl.col("name_id") == name, pl.col("name_id") != name
    assert other.filter(others).equals(one.filter(others))
    assert other.filter(mine).select(key).equals(one.filter(mine).select(key))
    assert not other.filter(mine).equals(one.filter(mine))
    told = exchange._day.snapshot(first)
    quoted = told.chain.bid[told.expiries.name[told.chain.expiry] == name - 1]
    assert np.array_equal(np.sort(other.filter(mine)["bid"].to_numpy()), np.sort(quoted))
    own = read_own_looks(going, first)
    assert set(own.filter(others)["looked_at"]) == {stored(whole[-1])}
    assert own.filter(mine)["looked_at"].to_list() == [stored(first)]
    alone: dict[type[MarketBase], pl.DataFrame] = {}
    for table in (ExpiryVolatility, Position):
        then, now = (
            read_table(going, select(table).where(table.taken_at == stored(moment))).drop("taken_at")
            for moment in (whole[-1], first)
        )
        assert now.filter(others).sort(now.columns[:2]).equals(then.filter(others).sort(now.columns[:2])), table
        assert now.height == then.height
        assert not now.filter(mine).equals(then.filter(mine)), table
        alone[table] = now.filter(mine).sort(now.columns[:2])

    # What is told beside a value is what the look before said: of each name its own.
    frame = load_frame(going, tmp_path)
    assert frame is not None
    view = opened(frame, going)
    assert view.as_of == first
    rows = {moment: read_table(going, select(Position).where(Position.taken_at == stored(moment))) for moment in whole}
    for row in (view.row(view.frame.names[name - 1].symbol), view.row("TARNO")):
        moment = whole[-1] if row == name - 1 else whole[0]
        wanted = rows[moment].filter(pl.col("name_id") == view.id(row))["call_exposure"][0]
        assert frame.daily["call_exposure_before"][row, -1] == pytest.approx(wanted)
        assert chain(view, view.frame.names[row].symbol, None).quoted_at == (first if row == name - 1 else whole[-1])
        against = positioning(view, view.frame.names[row].symbol, PositioningQuery(against="snapshot")).against
        assert against == moment
    # Published together with all others it is what it is published alone.
    publish(going, first)
    for table, rows_alone in alone.items():
        rows_now = read_table(going, select(table).where(table.taken_at == stored(first), table.name_id == int(name)))
        assert rows_now.drop("taken_at").sort(rows_alone.columns[:2]).equals(rows_alone), table
    assert exchange.step().chains is False


def _killed(*_: object, **__: object) -> None:
    raise KeyboardInterrupt


def test_a_version_is_read_between_two_moments_however_fast_they_come(going: Engine, tmp_path: Path):
    holder = MarketHolder(going, tmp_path)
    first = holder.current()
    with between_moments(going, 5):
        # As while a moment is told: the one before is shown.
        begin_moment(going)
        holder.renew()
        assert holder.current() is first
    exchange = Exchange(going)
    told = exchange.step()
    # The next one is already being told when it is looked at.
    begin_moment(going)
    holder.renew()
    assert holder.current() is first
    exchange.step()
    holder.renew()
    assert holder.current().as_of.astimezone(dt.UTC) == told.at + dt.timedelta(minutes=1)


def test_what_expires_is_on_every_page_until_the_session_ends(
    going: Engine, everywhere: OpenAPI, monkeypatch: pytest.MonkeyPatch
):
    friday = dt.datetime(2026, 9, 11, 13, 35, tzinfo=dt.UTC)
    exchange = Exchange(going)
    # As if nobody had looked at what lies between.
    while exchange.next < friday:
        exchange._left = exchange._left[-1:]
        exchange.step()
    assert exchange.step().at == friday
    told = looked_at(everywhere)
    assert "2026-09-11" in json.dumps(told["get /api/dossier/chain/KESEO {}"])
    exchange._left = [moment for moment in exchange._left if moment >= friday.replace(hour=20, minute=0)]
    assert exchange.step().chains
    told = looked_at(everywhere)
    assert "2026-09-11" not in json.dumps(told["get /api/dossier/chain/KESEO {}"]["expirations"])


def test_what_a_start_finds_half_told_it_tells_again(going: Engine, moving: LocalServer):
    wanted = Exchange(going).next
    begin_moment(going)
    tell_again(moving)
    state = read_state(going)
    assert state is not None
    assert (state.as_of, state.whole) == (wanted.astimezone(dt.UTC), True)
    tell_again(moving)
    assert read_state(going) == state, "what is whole is left alone"


class Ticking:
    """A clock and an event of a test: who waits lets it go on."""

    def __init__(self, seconds: float) -> None:
        self.now, self.end = 0.0, seconds

    def __call__(self) -> float:
        return self.now

    def is_set(self) -> bool:
        return self.now >= self.end

    def wait(self, seconds: float) -> None:
        self.now += seconds


class Moments:
    """An exchange whose moments are minutes, each told in `takes` seconds of the clock."""

    def __init__(self, clock: Ticking, takes: float) -> None:
        self.clock, self.takes = clock, takes
        self.as_of = dt.datetime(2026, 9, 9, 19, 45, tzinfo=dt.UTC)
        self.told: list[tuple[float, dt.datetime]] = []

    @property
    def next(self) -> dt.datetime:
        return self.as_of + dt.timedelta(minutes=1)

    def step(self) -> None:
        self.as_of = self.next
        self.clock.now += self.takes
        self.told.append((self.clock.now, self.as_of))


@pytest.fixture
def running(monkeypatch: pytest.MonkeyPatch) -> Callable[..., tuple[Moments, list[float], list[Run]]]:
    def run(speed: int, until: dt.datetime | None, seconds: float, takes: float = 0.0):
        clock = Ticking(seconds)
        exchange, behind, asked = Moments(clock, takes), [], [Run(speed, until, 0.0, wall())]
        monkeypatch.setattr(going_on, "Exchange", lambda engine: exchange)
        monkeypatch.setattr(going_on, "read_run", lambda engine: asked[-1])
        monkeypatch.setattr(going_on, "set_run", lambda engine, s, u: asked.append(Run(s, u, 0.0, wall())))
        monkeypatch.setattr(going_on, "say_alive", lambda engine, now, late: behind.append(late))
        go_on(None, clock, clock)  # type: ignore[arg-type]
        return exchange, behind, asked

    return run


@pytest.mark.parametrize(("speed", "told"), [(1, 5), (10, 50), (60, 300)])
def test_it_runs_as_fast_as_it_is_told_to(running, speed: int, told: int):
    exchange, behind, _ = running(speed, None, 300.9)
    assert len(exchange.told) == told
    for place, (at, _) in enumerate(exchange.told, 1):
        assert at == pytest.approx(60 * place / speed, abs=0.15)
    assert set(behind) == {0.0}


def test_one_that_cannot_keep_pace_tells_every_moment_and_by_how_much_it_is_late(running):
    exchange, behind, _ = running(60, None, 200, takes=2.0)
    moments = [moment for _, moment in exchange.told]
    assert moments == [moments[0] + dt.timedelta(minutes=place) for place in range(len(moments))]
    assert behind[-1] == pytest.approx(60 * 200 - 60 * len(moments), abs=240)
    assert behind[-1] > behind[len(behind) // 2] > 0


def test_it_runs_to_a_moment_at_once_and_then_stands_still(running):
    until = dt.datetime(2026, 9, 9, 20, tzinfo=dt.UTC)
    exchange, _, asked = running(0, until, 30)
    assert exchange.as_of == until
    assert exchange.told[-1][0] < 2
    assert (asked[-1].speed, asked[-1].until) == (0, None)


def test_one_that_stands_still_tells_nothing_and_ends_after_a_while(running):
    exchange, _, _ = running(0, None, 1_000)
    assert exchange.told == []
    assert exchange.clock.now < 70


def test_how_it_runs_is_kept(going: Engine):
    set_run(going, 10, None)
    run = read_run(going)
    assert run is not None
    assert (run.speed, run.until, run.still) == (10, None, False)
    until = dt.datetime(2026, 9, 10, 20, tzinfo=dt.UTC)
    set_run(going, 0, until)
    run = read_run(going)
    assert run is not None
    assert (run.speed, run.until, run.still) == (0, until, False)
    set_run(going, 0, None)
    assert read_run(going).still  # type: ignore[union-attr]


def test_where_it_is_after_a_session_is_kept_for_who_turns_the_day(going: Engine):
    friday = dt.date(2026, 9, 11)
    begin_exchange(going, WEDNESDAY, b"in the middle", wall())
    assert read_exchange(going, WEDNESDAY) == (WEDNESDAY, b"in the middle")
    keep_exchange(going, WEDNESDAY, b"after it")
    # Who is still in it goes on from its middle, who turns the day from its end.
    assert read_exchange(going, WEDNESDAY) == (WEDNESDAY, b"in the middle")
    assert read_exchange(going, THURSDAY) == (WEDNESDAY, b"after it")
    keep_exchange(going, THURSDAY, b"after the next")
    assert read_exchange(going, THURSDAY) == (WEDNESDAY, b"after it")
    assert read_exchange(going, friday) == (THURSDAY, b"after the next")
    assert read_exchange(going, dt.date(2026, 9, 8)) is None
