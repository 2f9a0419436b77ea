"""Markets beside each other: each with its own databases, things that belong to one market, and what is let go."""

from __future__ import annotations

import fcntl
import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from flask.testing import FlaskClient
from tests.kept_market import copied_database

from flinch.app import create_app
from flinch.market import Markets, NoSuchMarket
from flinch.market import markets as module
from flinch.settings import Settings
from flinch.store.databases import DEMO, MOST_MARKETS, MarketTaken, NoMarketName, TooManyMarkets
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.settings import MarketSettings, read_settings

PROJECT = Path(__file__).resolve().parents[2]
WHY = {"page": "screen", "words": "tested", "link": "/", "values": {}}


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LocalServer]:
    """A server with the demo market that tests may make others beside."""
    running = copied_database(tmp_path_factory.mktemp("own") / "database")
    running.start()
    yield running
    running.stop()
    running.erase()


@pytest.fixture
def markets(own: LocalServer, tmp_path: Path) -> Iterator[Markets]:
    yield Markets(own.databases, tmp_path / "columns")
    for name in own.databases.markets():
        if name != DEMO:
            own.databases.remove_market(name)


@pytest.fixture
def client(own: LocalServer, markets: Markets, tmp_path: Path) -> Iterator[FlaskClient]:
    made = create_app(Settings(columns=tmp_path / "columns"), own.databases).test_client()
    yield made
    for name in ("demo", "mine"):
        made.delete(f"/api/tray?market={name}")


def test_a_market_keeps_what_it_was_made_as(own: LocalServer, markets: Markets):
    settings = MarketSettings("XLON", "GBP", "GLUDO", 0.051, "Europe/London")
    markets.make("mine", settings)
    assert markets.names() == [DEMO, "mine"]
    assert markets.open("mine").settings == settings
    assert read_settings(make_engine(own.databases.market_url("mine"))) == settings
    assert markets.open(DEMO).settings == MarketSettings(), "the other is what it was"
    with pytest.raises(MarketTaken, match="mine already"):
        markets.make("mine", settings)


@pytest.mark.parametrize("name", ["", "Mine", "1st", "a b", "x" * 32, "a;drop", "a_b", "ä", "demo/../x"])
def test_a_name_that_cannot_be_is_refused_and_nothing_is_made(markets: Markets, name: str):
    with pytest.raises(NoMarketName, match="small letter"):
        markets.make(name, MarketSettings())
    assert markets.names() == [DEMO]


def test_there_is_a_most_of_markets(markets: Markets, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr("flinch.store.databases.MOST_MARKETS", 2)
    markets.make("one", MarketSettings())
    with pytest.raises(TooManyMarkets):
        markets.make("two", MarketSettings())
    assert MOST_MARKETS == 40
    assert markets.names() == [DEMO, "one"]


def test_a_market_that_could_not_be_made_leaves_nothing(markets: Markets, monkeypatch: pytest.MonkeyPatch):
    def fail(*_: object) -> None:
        raise RuntimeError("half made")

    monkeypatch.setattr(module, "migrate_market", fail)
    with pytest.raises(RuntimeError, match="half made"):
        markets.make("mine", MarketSettings())
    assert markets.databases.markets() == [DEMO]


def test_a_market_is_removed_with_its_arrays_and_the_others_stay(markets: Markets, tmp_path: Path):
    markets.make("mine", MarketSettings())
    for name in ("mine", DEMO):
        (tmp_path / "columns" / name).mkdir(parents=True)
    assert markets.remove("mine")
    assert not markets.remove("mine")
    assert {path.name for path in (tmp_path / "columns").iterdir()} == {DEMO}
    with pytest.raises(NoSuchMarket, match="no market 'mine'"):
        markets.open("mine")


def test_one_that_another_process_made_or_removed_is_noticed(own: LocalServer, markets: Markets):
    assert markets.names() == [DEMO]
    module.make_market(own.databases, "theirs", MarketSettings())
    assert markets.open("theirs").name == "theirs", "at once, though the names were read a moment ago"
    own.databases.remove_market("theirs")
    markets._look()
    with pytest.raises(NoSuchMarket):
        markets.open("theirs")
    with pytest.raises(NoSuchMarket, match="Do you mean demo"):
        markets.open("dmo")


def test_a_market_that_nobody_asks_for_is_let_go_while_another_is_used(
    markets: Markets, monkeypatch: pytest.MonkeyPatch
):
    markets.make("mine", MarketSettings())
    now = [1_000.0]
    monkeypatch.setattr(module.time, "monotonic", lambda: now[0])
    demo, mine = markets.open(DEMO), markets.open("mine")
    now[0] += module._UNUSED_SECONDS - 1
    assert markets.open("mine") is mine
    assert markets.open(DEMO) is demo, "it was used within its time"
    now[0] += module._UNUSED_SECONDS - 1
    markets.open("mine")
    now[0] += 1
    markets.open("mine")
    assert markets.open(DEMO) is not demo, "it was let go, and is opened anew"
    assert markets.open("mine") is mine


def symbols(answer) -> list[str]:
    assert answer.status_code == 200, answer.text
    return [item["symbol"] for item in answer.json["items"]]


def test_tray_lines_and_baskets_are_of_one_market_and_screens_of_all(client: FlaskClient):
    assert client.post("/api/markets", json={"name": "mine"}).status_code == 200
    client.post("/api/tray?market=demo", json={"symbols": ["TARNO"], "why": WHY})
    basket = client.post("/api/baskets?market=demo", json={"name": "together", "symbols": ["TARNO", "BELUA"]}).json
    line = client.post("/api/lines?market=demo", json={"symbol": "TARNO", "price": 100}).json
    screen = client.post("/api/screens?market=demo", json={"name": "kept", "body": {"rules": []}})
    assert screen.status_code == 200, screen.text
    try:
        assert symbols(client.get("/api/tray?market=demo")) == ["TARNO"]
        # The other market is empty: what needs its names says so, what is kept is not the first one's.
        assert client.get("/api/tray?market=mine").json["type"] == "market_empty"
        refused = client.delete(f"/api/baskets/{basket['id']}?market=mine")
        assert refused.status_code == 404, "a basket of the first market is not there in the other"
        assert client.delete(f"/api/lines/{line['id']}?market=mine").status_code == 404
        assert "kept" in [one["name"] for one in client.get("/api/screens?market=mine").json["saved"]]
    finally:
        client.delete(f"/api/baskets/{basket['id']}?market=demo")
        client.delete(f"/api/lines/{line['id']}?market=demo")
        client.delete(f"/api/screens/{screen.json['id']}")


def test_without_a_name_it_is_the_one_that_was_chosen_last_and_first_the_demo(client: FlaskClient):
    client.post("/api/markets", json={"name": "mine", "currency": "EUR", "rate": 0.02})
    assert client.get("/api/markets").json["market"] == "demo"
    assert client.put("/api/markets/chosen", json={"market": "mine"}).status_code == 200
    told = client.get("/api/markets").json
    assert told["market"] == "mine"
    assert client.get("/api/markets?market=demo").json["market"] == "demo", "who names one gets that"
    row = next(row for row in told["markets"] if row["name"] == "mine")
    assert (row["as_of"], row["source"], row["currency"], row["rate"], row["usable"]) == (
        None,
        None,
        "EUR",
        0.02,
        False,
    )
    assert row["missing"][:3] == ["names", "daily_bars", "chains"]
    demo = told["markets"][0]
    assert (demo["name"], demo["source"], demo["missing"], demo["usable"]) == ("demo", "demo market", [], True)
    assert demo["as_of"] == "2026-09-09T15:45:00-04:00"
    assert client.delete("/api/markets/mine").status_code == 200
    assert client.get("/api/markets/chosen").json == {"market": "demo"}, "one that is gone is chosen no more"


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "kind"),
    [
        ("get", "/api/market?market=dmo", None, 404, "no_such_market"),
        ("get", "/api/tray?market=%00", None, 404, "no_such_market"),
        ("post", "/api/tray?market=" + "x" * 500, {"symbols": ["TARNO"], "why": WHY}, 404, "no_such_market"),
        ("put", "/api/markets/chosen", {"market": "nowhere"}, 404, "no_such_market"),
        ("delete", "/api/markets/nowhere", None, 404, "no_such_market"),
        ("delete", "/api/markets/demo", None, 409, "stays"),
        ("post", "/api/markets", {"name": "Mine"}, 422, "no_market_name"),
        ("post", "/api/markets", {"name": "demo"}, 409, "market_taken"),
        ("post", "/api/markets", {"name": "mine", "calendar": "NOWHERE"}, 422, "no_such_calendar"),
        ("post", "/api/markets", {"name": "mine", "currency": "dollars"}, 422, "bad_request"),
        ("post", "/api/markets", {"name": "mine", "rate": 4}, 422, "bad_request"),
    ],
)
def test_what_cannot_be_is_refused_in_words(client: FlaskClient, method: str, path: str, body, status: int, kind: str):
    answer = client.open(path, method=method.upper(), json=body)
    assert (answer.status_code, answer.json["type"]) == (status, kind), answer.text
    assert len(answer.json["message"]) < 300
    assert [row["name"] for row in client.get("/api/markets").json["markets"]] == ["demo"]


def run(folder: Path, *arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "flinch.cli", *arguments, "--folder", str(folder)],
        capture_output=True, text=True, stdin=subprocess.DEVNULL, check=False,
        env=os.environ | {"PYTHONPATH": str(PROJECT / "src")},
    )  # fmt: skip


def test_the_command_line_makes_lists_and_removes_whether_or_not_flinch_is_served(tmp_path: Path):
    alone = run(
        tmp_path, "market", "new", "mine", "--calendar", "XLON", "--currency", "GBP", "--rate", "0.05", "--json"
    )
    assert alone.returncode == 0, alone.stderr
    made = json.loads(alone.stdout)
    assert (made["market"], made["calendar"], made["zone"], made["rate"]) == ("mine", "XLON", "Europe/London", 0.05)
    # A server that runs from the folder holds its lock: a command reaches that one.
    served = LocalServer(tmp_path / "database")
    with (tmp_path / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        served.start()
        try:
            assert served.databases.markets() == ["demo", "mine"]
            beside = run(tmp_path, "market", "new", "second")
            assert beside.returncode == 0, beside.stderr
            assert served.databases.markets() == ["demo", "mine", "second"]
            listed = run(tmp_path, "market", "list", "--json")
            assert [json.loads(line)["market"] for line in listed.stdout.splitlines()] == ["demo", "mine", "second"]
            asked = run(tmp_path, "market", "remove", "second")
            assert (asked.returncode, "--yes" in asked.stderr) == (1, True), "nobody is there to be asked"
            assert run(tmp_path, "market", "remove", "second", "--yes").returncode == 0
            assert served.databases.markets() == ["demo", "mine"]
            assert run(tmp_path, "market", "remove", "demo", "--yes").returncode == 1
            assert "no market 'nowhere'" in run(tmp_path, "market", "remove", "nowhere", "--yes").stderr
        finally:
            served.stop()
        held = run(tmp_path, "market", "list")
        assert (held.returncode, "already running" in held.stderr) == (1, True), "the holder's server does not answer"
    assert run(tmp_path, "market", "new").returncode == 2
    assert run(tmp_path, "market", "new", "x", "--currency", "usd").returncode == 1


@pytest.mark.parametrize("open_before", [True, False])
def test_a_market_that_another_process_removes_is_told_no_more_and_breaks_no_list(
    own: LocalServer, markets: Markets, client: FlaskClient, open_before: bool
):
    client.post("/api/markets", json={"name": "mine"})
    if open_before:
        assert client.get("/api/market?market=mine").status_code == 503
    listed = client.get("/api/markets").json["markets"]
    assert [row["name"] for row in listed] == [DEMO, "mine"]
    # At once: what was looked at a moment ago is not true any more.
    own.databases.remove_market("mine")
    answer = client.get("/api/markets")
    assert (answer.status_code, [row["name"] for row in answer.json["markets"]]) == (200, [DEMO])
    gone = client.get("/api/data/kinds?market=mine")
    assert (gone.status_code, gone.json["type"]) == (404, "no_such_market")
