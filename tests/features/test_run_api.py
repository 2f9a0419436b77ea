"""How the market runs, as the top bar asks and says it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine

from flinch.clock import wall
from flinch.core.calendar import NEW_YORK
from flinch.features.frame import run as page
from flinch.features.frame.run import moment_of
from flinch.market import View
from flinch.store.market.run import say_alive, set_run
from flinch.web import UserError


@pytest.fixture(autouse=True)
def still(engine: Engine) -> Iterator[None]:
    """Whatever a test asks for, nobody runs the market of all tests; it is to stand still before and afterwards."""
    set_run(engine, 0, None)
    yield
    set_run(engine, 0, None)


def ask(client: FlaskClient, **asked: Any) -> dict[str, Any]:
    answer = client.put("/api/run", json=asked)
    assert answer.status_code == 200, answer.text
    told: dict[str, Any] = answer.json
    assert told == client.get("/api/run").json
    return told


def test_a_fresh_market_stands_still(client: FlaskClient):
    told = client.get("/api/run").json
    ages = {one["kind"]: (one["moment"], one["age"]) for one in told.pop("ages")}
    assert told == {"goes_on": True, "speed": 0, "until": None, "behind": 0.0, "stopped": False}
    # Of what stands still nothing is due.
    assert set(ages) == {"minute_bars", "option_trades", "prints", "chains"}
    assert set(ages.values()) == {("2026-09-09T15:45:00-04:00", "closed")}


@pytest.mark.parametrize("speed", [1, 10, 60])
def test_it_is_asked_to_run_and_a_source_that_says_nothing_is_told(client: FlaskClient, engine: Engine, speed: int):
    say_alive(engine, wall())
    told = ask(client, speed=speed)
    assert {one["age"] for one in told.pop("ages")} == {"fresh"}
    assert told == {"goes_on": True, "speed": speed, "until": None, "behind": 0.0, "stopped": False}
    say_alive(engine, wall() - dt.timedelta(seconds=30), 80.0)
    told = client.get("/api/run").json
    assert (told["stopped"], told["behind"]) == (True, 80.0)
    # More than a minute behind, and half a minute of the clock without a word.
    late = {1: ("fresh", "fresh"), 10: ("stopped", "fresh"), 60: ("stopped", "stopped")}[speed]
    ages = {one["kind"]: one["age"] for one in told["ages"]}
    assert (ages["minute_bars"], ages["chains"]) == late
    # Who is to stand still says nothing, and nothing is missed.
    assert not ask(client, speed=0)["stopped"]


@pytest.mark.parametrize(
    ("to", "moment"),
    [
        ("close", "2026-09-09T16:00:00-04:00"),
        ("open", "2026-09-10T09:35:00-04:00"),
        ("session", "2026-09-10T15:45:00-04:00"),
    ],
)
def test_it_is_asked_to_run_to_a_moment(client: FlaskClient, to: str, moment: str):
    told = ask(client, to=to)
    assert (told["speed"], told["until"]) == (0, moment)
    assert ask(client, speed=10)["until"] is None, "how fast is an answer to the same question"


@pytest.mark.parametrize("asked", [{}, {"speed": 1, "to": "close"}, {"speed": 2}, {"to": "yesterday"}])
def test_what_cannot_be_asked_is_refused_and_changes_nothing(client: FlaskClient, asked: dict[str, Any]):
    before = client.get("/api/run").json
    answer = client.put("/api/run", json=asked)
    assert answer.status_code == 422
    assert answer.json["message"]
    assert client.get("/api/run").json == before


def test_a_market_without_such_a_source_says_so(client: FlaskClient, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr(page, "read_run", lambda engine: None)
    assert client.get("/api/run").json["goes_on"] is False
    answer = client.put("/api/run", json={"speed": 1})
    assert (answer.status_code, answer.json["type"]) == (409, "does_not_go_on")


def at(market: View, day: int, hour: int, minute: int) -> Any:
    now = dt.datetime(2026, 9, day, hour, minute, tzinfo=NEW_YORK.zone)
    last = int(np.searchsorted(market.frame.calendar, np.datetime64(now.date(), "D")))
    return SimpleNamespace(as_of=now, hours=market.hours, frame=market.frame, today=now.date(), last=last)


@pytest.mark.parametrize(
    ("day", "hour", "minute", "to", "wanted"),
    [
        (9, 9, 34, "open", (9, 9, 35)),
        (9, 9, 35, "open", (10, 9, 35)),
        (9, 15, 59, "close", (9, 16, 0)),
        (9, 16, 0, "close", (10, 16, 0)),
        (9, 20, 0, "session", (10, 16, 0)),
        (11, 12, 0, "session", (14, 12, 0)),  # over a weekend
        (11, 16, 30, "open", (14, 9, 35)),
    ],
)
def test_moments_ahead(market: View, day: int, hour: int, minute: int, to: Any, wanted: tuple[int, int, int]):
    found = moment_of(at(market, day, hour, minute), to)
    assert (found.day, found.hour, found.minute) == wanted


def test_where_the_calendar_ends_there_is_nothing_to_run_to(market: View):
    last = at(market, 9, 16, 30)
    last.frame = SimpleNamespace(calendar=market.frame.calendar[: last.last + 1])
    for to in ("open", "close", "session"):
        with pytest.raises(UserError, match="calendar of this market ends"):
            moment_of(last, to)
    assert moment_of(at(market, 9, 9, 0), "close").day == 9
