"""Streams of events: they take no worker, nobody who does not read holds anything up, and each moment is told once."""

from __future__ import annotations

import json
import socket
import threading
import urllib.request
from collections.abc import Iterator
from types import SimpleNamespace
from typing import Any

import pytest
from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI
from tests.demo_process import free_port
from tests.waiting import PATIENCE, until

from flinch.live import MOST, Live, TooManyListen
from flinch.market.changes import EVERYTHING, Changes
from flinch.market.holder import MarketEmpty
from flinch.serving import STAY, THREADS, Stream, make_server
from flinch.store.errors import DatabaseAway

HEAD = b"GET /stream HTTP/1.1\r\nHost: a\r\n\r\n"


class Application:
    """Answers `/stream` with one that stays, and whatever else at once."""

    def __init__(self) -> None:
        self.streams: list[Stream] = []

    def __call__(self, environ: dict[str, Any], start_response: Any) -> list[bytes]:
        if environ["PATH_INFO"] == "/stream":
            environ[STAY](self.streams.append)
            start_response("200 OK", [("Content-Type", "text/event-stream")])
            return [b"first"]
        start_response("200 OK", [("Content-Length", "2")])
        return [b"ok"]


@pytest.fixture
def served() -> Iterator[tuple[Application, int]]:
    application, port = Application(), free_port()
    web = make_server(application, "127.0.0.1", port)
    running = threading.Thread(target=web.run, daemon=True)
    running.start()
    yield application, port
    web.close()


def listener(port: int) -> socket.socket:
    connection = socket.create_connection(("127.0.0.1", port), timeout=PATIENCE)
    connection.sendall(HEAD)
    return connection


def heard(connection: socket.socket, text: bytes) -> bytes:
    """Read until a text came."""
    came = b""
    while text not in came:
        piece = connection.recv(4_000)
        assert piece, f"it ended after {came!r}"
        came += piece
    return came


def test_more_listen_than_there_are_workers_and_requests_are_answered_all_the_same(served: tuple[Application, int]):
    application, port = served
    listeners = [listener(port) for _ in range(3 * THREADS)]
    for one in listeners:
        assert b"text/event-stream" in heard(one, b"first")
    until(lambda: len(application.streams) == len(listeners), "all streams")
    with urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=PATIENCE) as answer:
        assert answer.read() == b"ok"
    assert all(stream.tell(b"second") for stream in application.streams)
    for one in listeners:
        heard(one, b"second")
        one.close()


def test_who_goes_away_is_noticed_and_who_asks_on_is_let_go(served: tuple[Application, int]):
    application, port = served
    gone, asking = listener(port), listener(port)
    for one in (gone, asking):
        heard(one, b"first")
    until(lambda: len(application.streams) == 2, "both streams")
    gone.close()
    asking.sendall(HEAD)
    until(lambda: not any(stream.tell(b"more") for stream in application.streams), "the end of both")


def test_who_does_not_read_is_cut_off_and_holds_nobody_up(served: tuple[Application, int]):
    application, port = served
    deaf, reader = listener(port), listener(port)
    heard(deaf, b"first")
    heard(reader, b"first")
    until(lambda: len(application.streams) == 2, "both streams")
    at_most = 2_000
    told = sum(application.streams[0].tell(b"x" * 65_000) for _ in range(at_most))
    assert told < at_most
    assert application.streams[1].tell(b"second")
    heard(reader, b"second")
    for one in (deaf, reader):
        one.close()


def test_what_a_busy_listener_could_not_take_at_once_comes_later(served: tuple[Application, int]):
    application, port = served
    one = listener(port)
    heard(one, b"first")
    until(lambda: len(application.streams) == 1, "the stream")
    stream = application.streams[0]
    told = 0
    while not stream._waiting:
        assert stream.tell(b"%06d" % told + b"x" * 9_000)
        told += 1
    came = b""
    while came.count(b"x" * 9_000) < told:
        came += one.recv(1 << 20)
        stream.go_on()
    assert b"%06d" % (told - 1) in came
    one.close()


def test_a_stream_that_is_ended_ends_the_connection(served: tuple[Application, int]):
    application, port = served
    one = listener(port)
    heard(one, b"first")
    until(lambda: len(application.streams) == 1, "the stream")
    application.streams[0].end()
    while one.recv(4_000):
        pass
    one.close()


class Kept:
    """A stream that keeps what it is told; `there` says whether somebody listens."""

    def __init__(self) -> None:
        self.told: list[bytes] = []
        self.there = True

    def tell(self, more: bytes) -> bool:
        if self.there:
            self.told.append(more)
        return self.there

    def go_on(self) -> None:
        pass

    def end(self) -> None:
        self.there = False

    @property
    def moments(self) -> list[dict[str, Any]]:
        return [json.loads(e.split(b"data: ")[1]) for e in self.told if b"event: moment" in e]


class Held:
    """The markets of a test: one, whose version is set."""

    def __init__(self) -> None:
        self.version = 1
        self.age = {"chains": "fresh"}
        self.fails: Exception | None = None

    def open(self, name: str) -> Any:
        return SimpleNamespace(name=name, holder=self)

    def current(self, seconds: float) -> Any:
        if self.fails is not None:
            raise self.fails
        day = SimpleNamespace(isoformat=lambda: "2026-09-09")
        return SimpleNamespace(data_version=self.version, as_of=day, today=day)

    def coming(self) -> None:
        return None

    def changed(self, now: Any) -> Changes:
        return Changes(1, ["minute_bars"], ["TARNO"]) if now.data_version > 1 else EVERYTHING


@pytest.fixture
def held() -> Held:
    return Held()


@pytest.fixture
def live(held: Held, monkeypatch: pytest.MonkeyPatch) -> Iterator[Live]:
    monkeypatch.setattr("flinch.live._ages", lambda *_: dict(held.age))
    made = Live(held)  # type: ignore[arg-type]
    yield made
    made.close()


def test_each_listener_is_told_a_moment_once_and_one_that_came_late_what_it_missed(held: Held, live: Live):
    early, late = Kept(), Kept()
    live.listen("one", early, b"")
    until(lambda: len(early.moments) == 1, "the moment that it did not know")
    held.version = 7
    until(lambda: len(early.moments) == 2, "the next moment")
    live.listen("one", late, early.told[0])
    until(lambda: late.moments, "what it missed")
    held.version = 8
    until(lambda: len(late.moments) == 2, "the newest")
    assert [m["version"] for m in early.moments] == [1, 7, 8]
    assert [m["version"] for m in late.moments] == [7, 8]
    assert early.told[-1].startswith(b"id: 8\n")
    told = [(m["before"], m["kinds"], m["names"]) for m in early.moments]
    assert told == [(None, None, None), *[(1, ["minute_bars"], ["TARNO"])] * 2]
    # Data that grow old are told of without a new version.
    held.age["chains"] = "late"
    until(lambda: len(early.moments) == 4, "that the chains are late")
    assert [(m["version"], m["age"]["chains"]) for m in early.moments[-2:]] == [(8, "fresh"), (8, "late")]


def test_who_listens_hears_so_while_nothing_happens_and_whatever_happens_to_another_market(
    held: Held, live: Live, monkeypatch: pytest.MonkeyPatch
):
    monkeypatch.setattr("flinch.live._BEAT_SECONDS", 0.0)
    broken, one = Kept(), Kept()
    broken.go_on = lambda: 1 / 0  # type: ignore[method-assign, assignment, return-value]
    live.listen("a", broken, b"")
    live.listen("b", one, b"")
    until(lambda: sum(told.startswith(b"event: here\ndata: ") for told in one.told) > 2, "the beats")
    assert len(one.moments) == 1


def test_who_does_not_listen_any_more_is_forgotten(held: Held, live: Live):
    stays, goes = Kept(), Kept()
    live.listen("one", stays, b"")
    live.listen("two", goes, b"")
    goes.there = False
    held.version = 2
    until(lambda: live.listeners() == 1, "the other one's end")
    assert stays.there


def test_a_database_that_is_away_for_a_while_ends_no_stream(held: Held, live: Live):
    one = Kept()
    live.listen("one", one, b"")
    until(lambda: one.moments, "the first moment")
    held.fails = DatabaseAway()
    until(lambda: one.moments[-1]["version"] == 0, "that there is none")
    assert one.moments[-1]["why"] == "database_away"
    held.version, held.fails = 3, None
    until(lambda: one.moments[-1]["version"] == 3, "the moment after it")


def test_no_more_may_listen_than_there_is_room_for(held: Held, live: Live):
    for _ in range(MOST - 1):
        live.listen("one", Kept(), b"")
    live.require_room()
    live.listen("two", Kept(), b"")
    with pytest.raises(TooManyListen):
        live.require_room()


def test_all_are_let_go_when_flinch_ends(held: Held, live: Live):
    one, after = Kept(), Kept()
    live.listen("one", one, b"")
    live.close()
    live.listen("one", after, b"")
    assert not one.there
    assert not after.there
    assert live.listeners() == 0


def test_a_market_that_shows_nothing_says_so(held: Held, live: Live):
    one = Kept()
    held.fails = MarketEmpty()
    live.listen("one", one, b"")
    until(lambda: one.moments, "what there is to say")
    assert (one.moments[0]["version"], one.moments[0]["why"]) == (0, "market_empty")


def test_the_address_tells_the_version_that_is_served(client: FlaskClient, app: OpenAPI):
    answer = client.get("/api/live?market=demo")
    assert answer.mimetype == "text/event-stream"
    kind, data = answer.text.split("\n")[1:3]
    told, market = json.loads(data.removeprefix("data: ")), client.get("/api/market?market=demo").json
    assert kind == "event: moment"
    assert (told["version"], told["session"]) == (market["version"], market["sessions"][-1])
    assert told["as_of"] == market["as_of"]


def test_listening_over_the_wire(live_url: str, app: OpenAPI):
    host, port = live_url.removeprefix("http://").split(":")
    with socket.create_connection((host, int(port)), timeout=PATIENCE) as connection:
        connection.sendall(f"GET /api/live?market=demo HTTP/1.1\r\nHost: {host}:{port}\r\n\r\n".encode())
        came = heard(connection, b"\n\n")
        assert b"event: moment" in came
        until(lambda: app.extensions["flinch"].live.listeners() > 0, "the listener")
