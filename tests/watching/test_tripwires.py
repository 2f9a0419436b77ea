"""What is waited for is found in the moment in which it happens, once, whatever ends in between."""

from __future__ import annotations

import dataclasses
import datetime as dt
from types import SimpleNamespace
from typing import Any

import numpy as np
import polars as pl
import pytest
from sqlalchemy import Engine
from tests.somebody import somebody

from flinch.clock import wall
from flinch.market import View, opened
from flinch.screening.groups import source_symbols
from flinch.screening.own_words import words_of
from flinch.store.databases import DEMO
from flinch.store.market.chain import stored
from flinch.store.market.minutes import read_minutes
from flinch.store.owned import trips as kept_trips
from flinch.store.owned.kept import BASKETS, OWN_METRICS, TRIPWIRES, plain
from flinch.store.owned.models import Trip, Tripwire
from flinch.store.owned.trips import read_remembered, read_trips, read_watched
from flinch.watching import Watcher
from flinch.watching.watcher import missed_moments

pytestmark = pytest.mark.usefixtures("no_tripwires")
TARNO = {"symbols": ["TARNO"]}


class Told:
    """Who listens."""

    def __init__(self) -> None:
        self.said: list[tuple[str, str, dict[str, Any]]] = []

    def say(self, name: str, kind: str, told: dict[str, Any]) -> None:
        self.said.append((name, kind, told))


class Market:
    """The demo's, at moments that a test chooses."""

    def __init__(self, view: View) -> None:
        self.first, self.now = view, view

    def open(self, name: str) -> Any:
        return SimpleNamespace(name=name, holder=self)

    def current(self, seconds: float = 0.0) -> View:
        return self.now

    def comes(self, minutes: float, **closes: float) -> None:
        """So many minutes after the beginning prices are so many times what they were then; NaN: none is known."""
        frame = self.first.frame
        close = frame.close.copy()
        for symbol, times in closes.items():
            close[frame.index[symbol], -1] *= times
        moment = frame.state.as_of + dt.timedelta(minutes=minutes)
        state = frame.state._replace(as_of=moment, data_version=frame.state.data_version + round(minutes))
        self.now = opened(dataclasses.replace(frame, state=state, close=close), self.first.store)


@pytest.fixture
def clock(market: View) -> Market:
    return Market(market)


@pytest.fixture
def told() -> Told:
    return Told()


@pytest.fixture
def watcher(owned: Engine, clock: Market, told: Told) -> Watcher:
    return Watcher(owned, clock, told)  # type: ignore[arg-type]


def wait_for(owned: Engine, view: View, text: str = "", id: int | None = None, **other: Any) -> Tripwire:
    """Arm a tripwire at a moment."""
    values = {
        "name": f"{text} {other}"[:120],
        "parked": TARNO,
        "rule": {"text": text},
        "again": {"when": "session"},
        "why": {},
        "note": "",
        "armed_at": plain(view.as_of),
        "changed_at": plain(wall()),
    }
    row = TRIPWIRES.save(owned, somebody(owned), values | other, id)
    assert row is not None
    return row


def log(owned: Engine) -> list[Trip]:
    """What tripped, the oldest first."""
    return read_trips(owned, somebody(owned))[::-1]


def said(trips: list[Trip]) -> list[tuple[str, dt.datetime]]:
    return [(trip.symbol, trip.moment) for trip in trips]


def after(view: View, minutes: int) -> dt.datetime:
    return plain(view.as_of) + dt.timedelta(minutes=minutes)


def test_a_name_trips_in_the_moment_in_which_its_rule_begins_to_hold_and_once(
    owned: Engine, market: View, clock: Market, watcher: Watcher, told: Told
):
    row, price = market.row("TARNO"), market.price(market.row("TARNO"))
    armed = wait_for(owned, market, f"price > {1.01 * price:.2f}")
    assert watcher.look(DEMO) == 0
    clock.comes(1, TARNO=1.005)
    assert watcher.look(DEMO) == 0
    clock.comes(2, TARNO=1.02)
    assert watcher.look(DEMO) == 1
    assert watcher.look(DEMO) == 0, "the same moment again"
    clock.comes(3, TARNO=1.03)
    assert watcher.look(DEMO) == 0, "it holds on"
    [trip] = log(owned)
    assert (trip.symbol, trip.moment, trip.session) == ("TARNO", after(market, 2), market.today)
    assert trip.price == pytest.approx(1.02 * price)
    assert trip.numbers == {"close": pytest.approx(1.02 * price)}
    # The move that options price for a day, when it tripped.
    assert trip.move == pytest.approx(float(market.metric("next_day_move")[row]), rel=0.05)
    assert (trip.tripwire_id, trip.missed, trip.seen_at) == (armed.id, False, None)
    assert trip.rule["text"] == armed.rule["text"]
    assert told.said == [(DEMO, "trip", {"market": DEMO, "trips": 1, "newest": trip.id})]
    assert read_watched(owned, DEMO) == market.as_of.astimezone(dt.UTC) + dt.timedelta(minutes=3)


def test_what_holds_already_when_it_is_armed_does_not_trip(
    owned: Engine, market: View, clock: Market, watcher: Watcher
):
    price = market.price(market.row("TARNO"))
    wait_for(owned, market, f"price > {0.99 * price:.2f}")
    for minute, times in enumerate((1.0, 1.01, np.nan, 1.0, 0.98)):
        clock.comes(minute, TARNO=times)
        assert watcher.look(DEMO) == 0
    clock.comes(5, TARNO=1.0)
    assert watcher.look(DEMO) == 1


def test_what_is_remembered_outlives_the_process(owned: Engine, market: View, clock: Market, told: Told):
    price = market.price(market.row("TARNO"))
    wait_for(owned, market, f"price > {1.01 * price:.2f}", again={"when": "once"})
    for minute, times in enumerate((1.0, 1.02, 1.0, 1.02)):
        clock.comes(minute, TARNO=times)
        Watcher(owned, clock, told).look(DEMO)  # type: ignore[arg-type]
    assert said(log(owned)) == [("TARNO", after(market, 1))]


def test_one_that_ends_in_the_middle_of_a_moment_tells_it_once(
    owned: Engine, market: View, clock: Market, watcher: Watcher, told: Told, monkeypatch: pytest.MonkeyPatch
):
    price = market.price(market.row("TARNO"))
    wait_for(owned, market, f"price > {1.01 * price:.2f}")
    watcher.look(DEMO)
    clock.comes(1, TARNO=1.02)

    def killed(*_: object) -> None:
        raise KeyboardInterrupt

    for place in ("pack", "insert"):
        with monkeypatch.context() as patch:
            patch.setattr(kept_trips, place, killed)
            with pytest.raises(KeyboardInterrupt):
                watcher.look(DEMO)
        assert log(owned) == []
        assert told.said == []
        assert read_watched(owned, DEMO) == market.as_of.astimezone(dt.UTC)
    assert watcher.look(DEMO) == 1
    assert said(log(owned)) == [("TARNO", after(market, 1))]


def test_two_that_watch_tell_a_moment_once(
    owned: Engine, market: View, clock: Market, watcher: Watcher, monkeypatch: pytest.MonkeyPatch
):
    price = market.price(market.row("TARNO"))
    wait_for(owned, market, f"price > {1.01 * price:.2f}")
    watcher.look(DEMO)
    clock.comes(1, TARNO=1.02)
    other, real = Watcher(owned, clock, Told()), kept_trips.keep_moment  # type: ignore[arg-type]
    counts = []

    def overtaken(*given: Any) -> list[int] | None:
        with monkeypatch.context() as patch:
            patch.setattr("flinch.watching.watcher.keep_moment", real)
            counts.append(other.look(DEMO))
        return real(*given)

    monkeypatch.setattr("flinch.watching.watcher.keep_moment", overtaken)
    assert watcher.look(DEMO) == 0
    assert counts == [1]
    assert said(log(owned)) == [("TARNO", after(market, 1))]


def test_a_changed_tripwire_and_one_armed_again_begin_anew(
    owned: Engine, market: View, clock: Market, watcher: Watcher
):
    price = market.price(market.row("TARNO"))
    armed = wait_for(owned, market, f"price > {1.01 * price:.2f}", again={"when": "once"})
    watcher.look(DEMO)
    clock.comes(1, TARNO=1.02)
    assert watcher.look(DEMO) == 1
    # It holds when it is changed: it is to be no first, and what it told before does not count.
    wait_for(owned, clock.now, f"price > {1.015 * price:.2f}", armed.id, again={"when": "once"})
    for minute, times, trips in ((1, 1.02, 0), (2, 1.02, 0), (3, 1.0, 0), (4, 1.02, 1), (5, 1.0, 0), (6, 1.02, 0)):
        clock.comes(minute, TARNO=times)
        assert watcher.look(DEMO) == trips, minute
    TRIPWIRES.save(owned, somebody(owned), {"armed_at": None}, armed.id)
    for minute, times in ((7, 1.0), (8, 1.02)):
        clock.comes(minute, TARNO=times)
        assert watcher.look(DEMO) == 0, "it does not watch"


def test_minutes_that_nobody_watched_are_looked_at_afterwards_and_told_as_missed(
    owned: Engine, market: View, clock: Market, watcher: Watcher
):
    since = market.as_of - dt.timedelta(minutes=5)
    minutes = read_minutes(market.store, (1, 10_000), (market.today, market.today)).filter(
        pl.col("at") >= stored(since) - dt.timedelta(minutes=1)
    )
    # A name that was higher in one of the minutes between than before and after.
    closes = minutes.group_by("name_id").agg(pl.col("close").sort_by("at"), pl.len()).filter(pl.col("len") == 6)
    name_id, close = next(
        (name_id, close)
        for name_id, close, _ in closes.iter_rows()
        if max(close[2:-1]) > max(close[0], close[-1]) + 0.02 and close[1] < max(close[2:-1]) - 0.01
    )
    symbol = market.name(int(np.searchsorted(market.frame.ids, name_id))).symbol
    level = max(close[0], close[1], close[-1]) + 0.005
    first = next(place for place, value in enumerate(close) if value > level)
    wait_for(owned, market.at(market.last), f"price > {level:.3f}", parked={"symbols": [symbol]}, armed_at=plain(since))
    with kept_trips.transaction(owned) as session:
        session.add(kept_trips.WatchedMarket(market=DEMO, moment=plain(since)))
    assert watcher.look(DEMO) >= 0
    found = log(owned)
    # Nothing was remembered at the first of them: it is known from then on.
    assert [trip.missed for trip in found] == [True]
    assert found[0].moment == plain(since) + dt.timedelta(minutes=first)
    assert found[0].price == pytest.approx(close[first])
    assert read_watched(owned, DEMO) == market.as_of.astimezone(dt.UTC)
    assert watcher.look(DEMO) == 0


def test_what_was_missed_is_every_minute_of_a_session_that_runs_and_the_close_of_one_that_is_over(market: View):
    never = SimpleNamespace(is_set=lambda: False)
    zone = market.hours.zone
    now = market.as_of.astimezone(zone)
    before = now - dt.timedelta(minutes=3)
    times = [view.as_of for view in missed_moments(market, before, never)]  # type: ignore[arg-type]
    assert times == [now - dt.timedelta(minutes=2), now - dt.timedelta(minutes=1)]
    # From the evening of the session two before: the close of the one before, and this one from its first look on.
    evening = market.hours.closes(market.date(market.last - 2)) + dt.timedelta(hours=2)
    moments = missed_moments(market, evening, never)  # type: ignore[arg-type]
    assert next(moments).as_of == market.hours.closes(market.date(market.last - 1))
    assert next(moments).as_of == market.hours.opens(market.today) + dt.timedelta(minutes=5)
    assert next(moments).as_of == market.hours.opens(market.today) + dt.timedelta(minutes=6)
    # From the middle of one: its minutes, then its close.
    nearly = market.hours.closes(market.date(market.last - 1)) - dt.timedelta(minutes=2)
    moments = missed_moments(market, nearly, never)  # type: ignore[arg-type]
    wanted = [nearly + dt.timedelta(minutes=1), nearly + dt.timedelta(minutes=2)]
    assert [next(moments).as_of, next(moments).as_of] == wanted


def test_one_that_cannot_be_watched_says_why_and_the_others_are_watched(
    owned: Engine, market: View, clock: Market, watcher: Watcher
):
    whose, price = somebody(owned), market.price(market.row("TARNO"))
    mine = {"key": "twice_price", "label": "Twice", "unit": "", "expression": "2 * price", "decimals": 2}
    metric = OWN_METRICS.save(owned, whose, mine)
    assert metric is not None
    own = wait_for(owned, market, f"twice_price > {2.02 * price:.2f}")
    plain_one = wait_for(owned, market, f"price > {1.01 * price:.2f}")
    watcher.look(DEMO)
    OWN_METRICS.remove(owned, whose, metric.id, wall())
    clock.comes(1, TARNO=1.02)
    assert watcher.look(DEMO) == 1
    assert [trip.tripwire_id for trip in log(owned)] == [plain_one.id]
    remembered = read_remembered(owned, [own.id, plain_one.id])
    assert "twice_price" in (remembered[own.id].error or "")
    assert remembered[plain_one.id].error is None
    # It is back: what was remembered of its names stands.
    OWN_METRICS.restore(owned, whose, metric.id)
    clock.comes(2, TARNO=1.02)
    assert watcher.look(DEMO) == 1
    assert read_remembered(owned, [own.id])[own.id].error is None
    OWN_METRICS.remove(owned, whose, metric.id, wall())


def test_a_basket_is_asked_again_at_every_update(owned: Engine, market: View, clock: Market, watcher: Watcher):
    whose = somebody(owned)
    basket = BASKETS.save(owned, whose, {"name": "Waited for", "symbols": ["TARNO"], "changed_at": plain(wall())})
    assert basket is not None
    level = 1.01
    text = f"price > {level} * lag(price, 1)"
    rises = {
        s: level * 1.01 * market.previous_close(market.row(s)) / market.price(market.row(s)) for s in ("TARNO", "BELUA")
    }
    falls = {s: 0.99 * market.previous_close(market.row(s)) / market.price(market.row(s)) for s in ("TARNO", "BELUA")}
    wait_for(owned, market, text, parked={"source": f"basket:{basket.id}"})
    clock.comes(1, **falls)
    watcher.look(DEMO)
    BASKETS.save(owned, whose, {"symbols": ["TARNO", "BELUA"]}, basket.id)
    clock.comes(2, **(falls | {"BELUA": rises["BELUA"]}))
    assert watcher.look(DEMO) == 0, "it rose before it was waited for"
    clock.comes(3, **falls)
    assert watcher.look(DEMO) == 0
    clock.comes(4, **rises)
    assert watcher.look(DEMO) == 2
    assert sorted(trip.symbol for trip in log(owned)) == ["BELUA", "TARNO"]
    BASKETS.remove(owned, whose, basket.id, wall())


def test_a_name_that_enters_a_screen_trips_and_one_that_leaves_it_another(
    owned: Engine, market: View, clock: Market, watcher: Watcher
):
    whose = somebody(owned)
    screen = "screen:s-premium-to-sell"
    inside = source_symbols(market, owned, whose, words_of(owned, whose), screen)
    one, other = inside[:2]
    everybody = {"source": "all"}
    enters = wait_for(owned, market, "", name="in", parked=everybody, rule={"screen": screen, "when": "enters"})
    leaves = wait_for(owned, market, "", name="out", parked=everybody, rule={"screen": screen, "when": "leaves"})
    watcher.look(DEMO)
    # The screen wants a price of at least fifteen.
    clock.comes(1, **{one: 0.01})
    assert watcher.look(DEMO) == 1
    clock.comes(2, **{other: 0.01})
    assert watcher.look(DEMO) == 2
    assert [(trip.tripwire_id, trip.symbol) for trip in log(owned)][:1] == [(leaves.id, one)]
    assert sorted((trip.tripwire_id, trip.symbol) for trip in log(owned)[1:]) == sorted(
        [(enters.id, one), (leaves.id, other)]
    )
