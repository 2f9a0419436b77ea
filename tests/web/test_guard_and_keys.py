"""What a request is held to before a route sees it, and the keys of changes, by themselves."""

from __future__ import annotations

import json
import threading

import pytest
from flask import Flask, Response, jsonify
from pydantic import BaseModel
from tests.waiting import PATIENCE, comes, until

from flinch.errors import FlinchError
from flinch.web import keys
from flinch.web.guard import (
    HEADERS,
    add_headers,
    refuse_foreign_hosts,
    refuse_other_origins,
    refuse_unreadable_bodies,
)
from flinch.web.keys import ChangeUnderWay, _turn
from flinch.web.problems import Problem, UserError, answer, reply


@pytest.fixture
def app() -> Flask:
    made = Flask(__name__)
    made.register_error_handler(FlinchError, answer)
    for check in (refuse_foreign_hosts, refuse_other_origins, refuse_unreadable_bodies):
        made.before_request(check)
    made.after_request(add_headers)

    @made.route("/api/thing", methods=["GET", "POST"])
    def thing() -> Response:
        return jsonify(done=True)

    @made.route("/page")
    def page() -> str:
        return "page"

    return made


def asked(app: Flask, path: str = "/api/thing", *, host: str = "127.0.0.1:8750", **headers: str):
    named = {name.replace("_", "-"): value for name, value in headers.items()}
    return app.test_client().get(path, base_url="http://127.0.0.1:8750", headers={"Host": host} | named)


@pytest.mark.parametrize("host", ["127.0.0.1:8750", "localhost:8750", "[::1]:8750", "LOCALHOST"])
def test_our_own_names_are_answered(app: Flask, host: str):
    assert asked(app, host=host).status_code == 200


@pytest.mark.parametrize(
    "host", ["example.org", "127.0.0.1.example.org:8750", "localhost.example", "0.0.0.0:8750", "[::1", "127.0.0.2", ""]
)
def test_other_names_for_this_machine_are_refused_on_pages_too(app: Flask, host: str):
    for path in ("/api/thing", "/page"):
        told = asked(app, path, host=host)
        assert told.status_code == 400
        assert told.json["type"] == "foreign_host"
        assert told.json["where"] == "Host"


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 200),
        ({"Origin": "http://127.0.0.1:8750"}, 200),
        ({"Sec-Fetch-Site": "same-origin"}, 200),
        ({"Sec-Fetch-Site": "none"}, 200),
        ({"Sec-Fetch-Site": "cross-site"}, 403),
        ({"Sec-Fetch-Site": "same-site"}, 403),
        ({"Origin": "http://127.0.0.1:8751"}, 403),
        ({"Origin": "https://127.0.0.1:8750"}, 403),
        ({"Origin": "null"}, 403),
        ({"Sec-Fetch-Site": "same-origin", "Origin": "http://example.org"}, 403),
    ],
)
def test_another_site_gets_no_data_and_changes_nothing(app: Flask, headers: dict[str, str], status: int):
    client = app.test_client()
    for ask in (client.get, client.post):
        told = ask("/api/thing", base_url="http://127.0.0.1:8750", headers=headers)
        assert told.status_code == status
    # A link from elsewhere may lead to a page.
    assert client.get("/page", base_url="http://127.0.0.1:8750", headers=headers).status_code == 200


def test_every_answer_says_what_a_browser_may_do_with_it(app: Flask):
    for told in (asked(app), asked(app, host="example.org"), asked(app, "/page"), asked(app, "/api/nowhere")):
        assert {name: told.headers[name] for name in HEADERS} == HEADERS
    assert "frame-ancestors 'none'" in HEADERS["Content-Security-Policy"]


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"{", "It is no JSON"),
        (b'{"a": "\\ud800"}', "half a character"),
        (b'{"\\udfff": 1}', "half a character"),
        (b"[" * 100_000, "nested too deep"),
        (b'{"a": ' + b"1" * 5_000 + b"}", "thousands of digits"),
        (b"\xff\xfe\x00", "It is no JSON"),
    ],
)
def test_bodies_that_cannot_be_read_are_told_why(app: Flask, data: bytes, says: str):
    told = app.test_client().post(
        "/api/thing", data=data, content_type="application/json", base_url="http://127.0.0.1:8750"
    )
    assert told.status_code == 422
    assert told.json["type"] == "bad_request"
    assert says in told.json["message"] or "half a character" in told.json["message"]


def test_a_whole_letter_in_two_halves_and_an_empty_body_are_fine(app: Flask):
    for data in (b'{"a": "\\ud83d\\ude00"}', b"", b'{"a": "\\u0041"}'):
        told = app.test_client().post(
            "/api/thing", data=data, content_type="application/json", base_url="http://127.0.0.1:8750"
        )
        assert told.status_code == 200, told.text


def test_a_problem_is_told_whole_and_shortly(app: Flask):
    class Waits(FlinchError):
        status, kind, wait = 503, "busy", 7

    with app.test_request_context("/"):
        long = answer(UserError(Problem(type="x", message="m" * 5_000, where="w" * 5_000, nearest=["TARNO"]), 409))
        told = json.loads(long.get_data())
        assert (long.status_code, told["type"], told["nearest"]) == (409, "x", ["TARNO"])
        assert len(told["message"]) == len(told["where"]) == 600
        assert told["message"].endswith("m…")
        assert "Retry-After" not in long.headers
        exact = answer(UserError(Problem(type="x", message="m" * 600)))
        assert json.loads(exact.get_data())["message"] == "m" * 600
        assert answer(Waits("later")).headers["Retry-After"] == "7"

        class Number(BaseModel):
            value: float | None

        assert reply(Number(value=float("nan")), 201).status_code == 201
        assert json.loads(reply(Number(value=float("nan"))).get_data()) == {"value": None}


def test_changes_under_one_key_follow_each_other_and_others_do_not_wait(monkeypatch: pytest.MonkeyPatch):
    first = _turn(1, "the same key")
    with _turn(1, "another key"), _turn(2, "the same key"):
        pass  # another key, and another's key, are other changes
    entered = threading.Event()

    def second() -> None:
        with _turn(1, "the same key"):
            entered.set()

    thread = threading.Thread(target=second)
    thread.start()
    until(lambda: keys._turns[1, "the same key"][1] == 2)
    assert not entered.is_set()
    first.close()
    assert comes(entered)
    thread.join(PATIENCE)
    assert keys._turns == {}, "nothing is kept of keys that nobody waits for"


def test_a_change_that_never_ends_is_told_to_who_waits_for_it(monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr(keys, "_TURN_SECONDS", 0.01)
    with _turn(1, "never ends"):
        with pytest.raises(ChangeUnderWay):
            _turn(1, "never ends")
        assert keys._turns[1, "never ends"][1] == 1
    assert ChangeUnderWay().wait == 2
    assert keys._turns == {}
