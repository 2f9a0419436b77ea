"""Tripwires over HTTP: made, armed, counted before, and what they told."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from tests.somebody import somebody

from flinch.clock import wall
from flinch.core.tripwires import through
from flinch.market import View
from flinch.store.databases import DEMO
from flinch.store.owned.kept import plain
from flinch.store.owned.trips import keep_moment

pytestmark = pytest.mark.usefixtures("no_tripwires")
HIGH = {"text": "close > sma(close, 50)"}


def draft(**other: Any) -> dict[str, Any]:
    return {
        "name": "Average recovered",
        "parked": {"symbols": ["TARNO", "BELUA", "VUSVO"], "session": "2026-09-09"},
        "rule": HIGH,
    } | other


def add(client: FlaskClient, **other: Any) -> dict[str, Any]:
    reply = client.post("/api/tripwires", json=draft(**other))
    assert reply.status_code == 200, reply.json
    made: dict[str, Any] = reply.json
    return made


def listed(client: FlaskClient) -> list[dict[str, Any]]:
    told: list[dict[str, Any]] = client.get("/api/tripwires").json["tripwires"]
    return told


def trip(owned: Engine, market: View, tripwire: int, symbol: str, minutes: int, price: float, move: float) -> int:
    """A trip, as if it had been watched."""
    moment = market.as_of - dt.timedelta(minutes=minutes)
    row = {
        "owner_id": somebody(owned).owner, "market": DEMO, "tripwire_id": tripwire, "symbol": symbol,
        "moment": plain(moment), "session": market.today, "data_version": market.data_version, "rule": HIGH,
        "numbers": {"close": price}, "price": price, "move": move, "missed": False, "told_at": plain(wall()), "seen_at": None,
    }  # fmt: skip
    watched = trip.watched.get(owned)  # type: ignore[attr-defined]
    kept = keep_moment(owned, DEMO, watched, moment, [row], {})
    trip.watched[owned] = moment  # type: ignore[attr-defined]
    assert kept is not None
    return kept[0]


@pytest.fixture(autouse=True)
def _from_the_beginning() -> None:
    trip.watched = {}  # type: ignore[attr-defined]


def test_one_is_made_armed_changed_put_to_rest_and_removed(client: FlaskClient, market: View):
    made = add(client, why={"page": "Screen", "words": "Premium to sell", "link": "/screen"}, note="Squeeze")
    assert made["words"] == HIGH["text"]
    assert made["of"] == "TARNO, BELUA, VUSVO, as of 2026-09-09"
    assert (made["names"], made["trips"], made["unseen"], made["last"], made["error"]) == (3, 0, 0, None, None)
    assert dt.datetime.fromisoformat(made["armed_at"]) == market.as_of
    assert made["why"]["words"] == "Premium to sell"
    assert made["again"] == {"when": "session", "minutes": 0}
    changed = client.put(
        f"/api/tripwires/{made['id']}",
        json=draft(rule={"text": "rsi(14) < 30", "bars": "15"}, parked={"source": "tray"}, version=made["version"]),
    ).json
    assert (changed["words"], changed["of"], changed["names"]) == ("rsi(14) < 30, on bars of 15 minutes", "the tray", 0)
    stale = client.put(f"/api/tripwires/{made['id']}", json=draft(version=made["version"]))
    assert (stale.status_code, stale.json["type"]) == (409, "changed_elsewhere")
    rests = client.post(f"/api/tripwires/{made['id']}/arm", json={"armed": False}).json
    assert rests["armed_at"] is None
    assert client.post(f"/api/tripwires/{made['id']}/arm", json={"armed": True}).json["armed_at"] is not None
    assert client.delete(f"/api/tripwires/{made['id']}").status_code == 200
    assert listed(client) == []
    assert client.post(f"/api/tripwires/{made['id']}/restore").status_code == 200
    assert [one["id"] for one in listed(client)] == [made["id"]]
    for reply in (
        client.put("/api/tripwires/999999", json=draft(name="Another")),
        client.delete("/api/tripwires/999999"),
        client.post("/api/tripwires/999999/restore"),
        client.post("/api/tripwires/999999/arm", json={"armed": True}),
        client.get("/api/tripwires/999999/trips"),
    ):
        assert (reply.status_code, reply.json["type"]) == (404, "no_such_tripwire")


def test_a_source_is_kept_as_it_is_or_asked_again(client: FlaskClient):
    again = add(client, parked={"source": "screen:s-premium-to-sell"})
    kept = add(client, name="Kept", parked={"source": "screen:s-premium-to-sell"}, keep=True)
    assert (again["of"], kept["of"]) == ("Premium to sell", "Premium to sell as of 2026-09-09")
    assert again["parked"]["symbols"] is None
    assert len(kept["parked"]["symbols"]) == kept["names"] == again["names"] > 10
    none = client.post("/api/tripwires", json=draft(name="Empty", parked={"source": "tray"}, keep=True))
    assert (none.status_code, none.json["type"]) == (422, "cannot_watch")
    assert add(client, name="Sector", parked={"source": "sector:Timber & Paper"})["of"] == "Timber & Paper"


@pytest.mark.parametrize(
    ("other", "says"),
    [
        ({"rule": {"text": "close > "}}, "ends too early"),
        ({"rule": {"text": "close"}}, "from where on"),
        ({"rule": {"text": " "}}, "say what is waited for"),
        ({"rule": {"text": "no_such_metric > 3"}}, "no_such_metric"),
        ({"rule": {"screen": "screen:s-nothing"}}, "not there any more"),
        ({"parked": {}}, "either a list"),
        ({"parked": {"symbols": ["TARNO"], "source": "all"}}, "either a list"),
        ({"parked": {"symbols": ["NOBODY"]}}, "NOBODY"),
        ({"parked": {"source": "basket:999999"}}, "basket"),
        ({"name": "  "}, "give it a name"),
        ({"again": {"when": "always"}}, "again"),
        ({"again": {"when": "after", "minutes": 2_000}}, "1950"),
        ({"why": {"words": "w" * 3_000}}, "2,000"),
    ],
)
def test_what_cannot_be_watched_is_refused_and_nothing_is_kept(client: FlaskClient, other: dict[str, Any], says: str):
    reply = client.post("/api/tripwires", json=draft(**other))
    assert reply.status_code in (404, 422)
    assert says in reply.json["message"], reply.json
    assert listed(client) == []


def test_a_name_is_taken_once(client: FlaskClient):
    add(client)
    again = client.post("/api/tripwires", json=draft())
    assert (again.status_code, again.json["type"]) == (409, "name_taken")


def test_what_it_told_is_read_the_newest_first_with_what_came_since(client: FlaskClient, owned: Engine, market: View):
    one, other = add(client), add(client, name="Another", parked={"source": "all"}, rule={"text": "close > 10"})
    row = market.row("TARNO")
    price = market.price(row)
    first = trip(owned, market, one["id"], "TARNO", 30, price - 3.0, 2.0)
    second = trip(owned, market, other["id"], "BELUA", 20, 100.0, 4.0)
    third = trip(owned, market, one["id"], "VUSVO", 10, 100.0, 4.0)
    told = client.get(f"/api/tripwires/{one['id']}/trips").json["trips"]
    assert [each["id"] for each in told] == [third, first]
    assert told[1]["since"] == pytest.approx(1.5)
    assert told[1]["words"] == HIGH["text"]
    [number] = told[1]["numbers"]
    assert (number["key"], number["unit"], number["value"]) == ("close", "$", price - 3.0)
    assert dt.datetime.fromisoformat(told[1]["moment"]) == market.as_of - dt.timedelta(minutes=30)
    assert (told[1]["name"], told[1]["parked"]) == ("Average recovered", "TARNO, BELUA, VUSVO, as of 2026-09-09")
    everything = client.get("/api/tripwires/trips").json["trips"]
    assert [each["id"] for each in everything] == [third, second, first]
    assert [each["id"] for each in client.get(f"/api/tripwires/trips?after={first}").json["trips"]] == [third, second]
    assert [each["id"] for each in client.get("/api/tripwires/trips?count=1").json["trips"]] == [third]
    stands = {each["id"]: (each["trips"], each["unseen"]) for each in listed(client)}
    assert stands == {one["id"]: (2, 2), other["id"]: (1, 1)}
    assert dt.datetime.fromisoformat(listed(client)[1]["last"]) == market.as_of - dt.timedelta(minutes=10)
    # Somebody looks at two of them.
    assert client.post("/api/tripwires/trips/seen", json={"ids": [third, second]}).json == {"seen": 2}
    assert client.post("/api/tripwires/trips/seen", json={"ids": [third, second]}).json == {"seen": 0}
    assert [each["id"] for each in client.get("/api/tripwires/trips?unseen=true").json["trips"]] == [first]
    # What it told stays when it is gone.
    client.delete(f"/api/tripwires/{one['id']}")
    gone = client.get("/api/tripwires/trips").json["trips"][0]
    assert (gone["id"], gone["name"]) == (third, None)


def test_trips_and_tripwires_are_their_owners(client: FlaskClient, owned: Engine, market: View):
    one = add(client)
    theirs = somebody(owned, "somebody else").owner
    moment = market.as_of
    row = {
        "owner_id": theirs, "market": DEMO, "tripwire_id": one["id"], "symbol": "TARNO", "moment": plain(moment),
        "session": market.today, "data_version": 1, "rule": HIGH, "numbers": {}, "price": None, "move": None,
        "missed": False, "told_at": plain(wall()), "seen_at": None,
    }  # fmt: skip
    kept = keep_moment(owned, DEMO, None, moment, [row], {})
    assert kept
    assert client.get("/api/tripwires/trips").json["trips"] == []
    assert client.post("/api/tripwires/trips/seen", json={"ids": kept}).json == {"seen": 0}


def test_how_often_it_would_have_tripped_is_counted_at_each_close(client: FlaskClient, market: View):
    asked = {"parked": {"symbols": ["TARNO", "BELUA", "VUSVO", "BARTI"]}, "rule": HIGH, "again": {"when": "session"}}
    told = client.post("/api/tripwires/before", json=asked).json
    # Counted by hand: closes that pass above the mean of fifty.
    rows = [market.row(symbol) for symbol in asked["parked"]["symbols"]]
    close = market.frame.close[rows]
    mean = np.stack([close[:, end - 50 : end].mean(axis=1) for end in range(50, market.end + 1)], axis=1)
    above = close[:, 49:] > mean
    rises = np.concatenate([np.zeros((4, 1), bool), ~above[:, :-1] & above[:, 1:]], axis=1)
    wanted = rises[:, -252:].sum(axis=0)
    # Of the first of them it is not known what was before.
    assert told["trips"][1:] == wanted[1:].tolist()
    assert (len(told["sessions"]), told["sessions"][-1]) == (252, market.today.isoformat())
    assert (told["names"], told["total"], told["none"]) == (
        4,
        sum(told["trips"]),
        sum(one == 0 for one in told["trips"]),
    )
    assert told["a_session"] == pytest.approx(told["total"] / 252)
    assert told["holds"] == int(above[:, -1].sum())
    assert [one["trips"] for one in told["most"]] == sorted((one["trips"] for one in told["most"]), reverse=True)
    # Once is fewer.
    once = client.post("/api/tripwires/before", json=asked | {"again": {"when": "once"}}).json
    assert once["total"] == through(above[:, -252:], ~above[:, -252:], "once").sum()


def test_where_it_is_not_counted_it_says_why(client: FlaskClient):
    parked = {"source": "stock"}
    for rule, says in (
        ({"text": "rsi(14) < 30", "bars": "15"}, "daily bars"),
        ({"screen": "screen:s-premium-to-sell"}, "came into a screen"),
    ):
        told = client.post("/api/tripwires/before", json={"parked": parked, "rule": rule}).json
        assert says in told["reason"]
        assert (told["trips"], told["total"]) == ([], 0)
        assert told["names"] > 400
    bad = client.post("/api/tripwires/before", json={"parked": parked, "rule": {"text": "close"}})
    assert bad.status_code == 422
