"""What may be sent and by whom: other sites, bodies that no reader takes, keys, and changes made in two windows."""

from __future__ import annotations

import threading

import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine, event
from sqlalchemy.exc import OperationalError

WHY = {"page": "Screen", "words": "by hand"}
BODY = {"universe": "all", "rules": [{"text": "price > 5"}]}


def add(client: FlaskClient, *symbols: str, **headers: str):
    return client.post("/api/tray", json={"symbols": list(symbols), "why": WHY}, headers=headers)


def tray(client: FlaskClient) -> dict:
    return client.get("/api/tray").json


@pytest.fixture
def kept(client: FlaskClient):
    """Saves things that are removed afterwards."""
    made: list[str] = []

    def save(kind: str, body: dict, **more):
        answer = client.post(f"/api/{kind}", json=body, **more)
        if answer.status_code == 200:
            made.append(f"/api/{kind}/{answer.json['id']}")
        return answer

    yield save
    for address in dict.fromkeys(made):
        client.delete(address)


@pytest.mark.parametrize("site", ["cross-site", "same-site"])
def test_another_site_gets_nothing_and_changes_nothing(client: FlaskClient, site: str):
    for answer in (
        client.get("/api/tray", headers={"Sec-Fetch-Site": site}),
        client.post("/api/screen", json={"stack": BODY}, headers={"Sec-Fetch-Site": site}),
        add(client, "TARNO", **{"Sec-Fetch-Site": site}),
        add(client, "TARNO", Origin="http://localhost:3000"),
        add(client, "TARNO", Origin="null"),
    ):
        assert (answer.status_code, answer.json["type"]) == (403, "other_site")
    assert tray(client)["items"] == []
    assert add(client, "TARNO", Origin="http://localhost", **{"Sec-Fetch-Site": "same-origin"}).status_code == 200
    assert client.get("/screen", headers={"Sec-Fetch-Site": "cross-site"}).status_code == 200, "a link leads here"


def test_the_loopback_of_ipv6_is_ours_and_a_foreign_host_is_not(client: FlaskClient):
    assert client.get("/api/market", headers={"Host": "[::1]:8750"}).status_code == 200
    assert client.get("/api/market", headers={"Host": "flinch.example"}).status_code == 400


@pytest.mark.parametrize("path", ["/screen", "/api/market", "/api/nothing", "/assets/none.js", "/favicon.svg"])
def test_every_answer_says_that_no_foreign_script_runs_and_nobody_frames_it(client: FlaskClient, path: str):
    headers = client.get(path).headers
    policy = dict(part.strip().split(" ", 1) for part in headers["Content-Security-Policy"].split(";"))
    assert policy["script-src"] == policy["default-src"] == "'self'"
    assert policy["frame-ancestors"] == policy["object-src"] == policy["base-uri"] == "'none'"
    assert headers["X-Content-Type-Options"] == "nosniff"
    assert headers["Referrer-Policy"] == "no-referrer"


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b'{"symbols": ["TARNO"], "why": {"page": "a", "words": "b", "values": {"iv30": 1e999}}}', "finite"),
        (b'{"symbols": ["TARNO"], "why": {"page": "a", "words": "b", "values": {"iv30": NaN}}}', "finite"),
        (b'{"symbols": ["TARNO"], "why": {"page": "a", "words": "\\ud800"}}', "surrogate"),
        (b"[" * 100_000, "nested"),
        (b"{", "JSON"),
        (b"\xff\xfe", "read"),
    ],
)
def test_bodies_that_cannot_be_kept_are_refused_with_words(client: FlaskClient, data: bytes, said: str):
    answer = client.post("/api/tray", data=data, content_type="application/json")
    assert answer.status_code == 422
    assert said in answer.json["message"]
    assert tray(client)["items"] == []


def test_a_change_sent_again_under_its_key_is_done_once_and_answered_as_before(client: FlaskClient, kept):
    draft = {"name": "sent twice", "body": BODY}
    key = {"Idempotency-Key": "one-change-0001"}
    first = kept("screens", draft, headers=key)
    again = kept("screens", draft, headers=key)
    assert (again.status_code, again.json) == (200, first.json)
    assert again.headers["Idempotent-Replayed"] == "true"
    assert [s["name"] for s in client.get("/api/screens").json["saved"]].count("sent twice") == 1
    other = client.post("/api/tray", json={"symbols": ["TARNO"], "why": WHY}, headers=key)
    assert (other.status_code, other.json["type"]) == (422, "key_used")
    assert kept("screens", draft, headers={"Idempotency-Key": "x"}).status_code == 422
    # What was refused was not kept, so its key is free.
    refused = {"Idempotency-Key": "one-change-0002"}
    assert kept("screens", draft, headers=refused).status_code == 409
    assert kept("screens", draft | {"name": "another"}, headers=refused).status_code == 200


def test_a_key_is_known_still_when_others_came_after_it(client: FlaskClient):
    first = add(client, "TARNO", **{"Idempotency-Key": "one-of-many-1"})
    add(client, "BELUA", **{"Idempotency-Key": "one-of-many-2"})
    again = add(client, "TARNO", **{"Idempotency-Key": "one-of-many-1"})
    assert (again.status_code, again.json) == (200, first.json)
    assert again.headers["Idempotent-Replayed"] == "true"


def test_a_commit_whose_answer_is_lost_says_so_and_the_key_tells_whether_it_was_kept(
    client: FlaskClient, engine: Engine, app
):
    """The database dies right after it has committed: nobody knows, until the change is sent again."""
    held = app.extensions["flinch"].owned
    died = []

    def lose(connection) -> None:
        if not died:
            died.append(True)
            connection.connection.dbapi_connection.commit()
            raise OperationalError("COMMIT", {}, ConnectionError(2013, "Lost connection"), connection_invalidated=True)

    key = {"Idempotency-Key": "lost-answer-01"}
    client.get("/api/tray")
    event.listen(held, "commit", lose)
    try:
        answer = add(client, "TARNO", **key)
    finally:
        event.remove(held, "commit", lose)
    assert (answer.status_code, answer.json["type"]) == (503, "outcome_unknown")
    assert "not known" in answer.json["message"]
    assert [item["symbol"] for item in tray(client)["items"]] == ["TARNO"]
    version = tray(client)["version"]
    again = add(client, "TARNO", **key)
    assert (again.status_code, again.json["type"]) == (409, "done_already")
    assert tray(client)["version"] == version


def test_what_two_windows_change_is_not_lost_silently(client: FlaskClient, kept):
    saved = kept("screens", {"name": "in two windows", "body": BODY}).json
    address = f"/api/screens/{saved['id']}"
    one = {"name": "in two windows", "description": "from the first", "body": BODY, "version": saved["version"]}
    first = client.put(address, json=one)
    assert first.json["version"] == saved["version"] + 1
    late = client.put(address, json=one | {"description": "from the second"})
    assert (late.status_code, late.json["type"]) == (409, "changed_elsewhere")
    assert late.json["version"] == first.json["version"]
    now = next(s for s in client.get("/api/screens").json["saved"] if s["id"] == saved["id"])
    assert now["description"] == "from the first"
    assert client.put(address, json=one | {"version": late.json["version"]}).status_code == 200, "once it was seen"


def test_a_basket_and_a_metric_have_versions_too(client: FlaskClient, kept):
    for kind, body in (
        ("baskets", {"name": "two windows", "symbols": ["TARNO"]}),
        ("own-metrics", {"key": "two_windows", "label": "Two", "expression": "iv30 - hv21"}),
    ):
        saved = kept(kind, body).json
        address = f"/api/{kind}/{saved['id']}"
        assert client.put(address, json=body | {"version": 1}).status_code == 200
        assert client.put(address, json=body | {"version": 1}).json["type"] == "changed_elsewhere"


def test_adding_to_the_tray_goes_together_and_clearing_what_came_meanwhile_does_not(client: FlaskClient):
    seen = add(client, "TARNO").json["version"]
    add(client, "BELUA")
    for answer in (
        client.delete(f"/api/tray?version={seen}"),
        client.post(f"/api/tray/undo?version={seen}"),
        client.put("/api/tray", json={"op": "replace", "symbols": ["KOSVI"], "why": WHY, "version": seen}),
        client.put("/api/tray", json={"op": "keep", "symbols": ["TARNO"], "why": WHY, "version": seen}),
    ):
        assert (answer.status_code, answer.json["type"]) == (409, "changed_elsewhere")
    merged = client.put("/api/tray", json={"op": "add", "symbols": ["KOSVI"], "why": WHY, "version": seen})
    assert [item["symbol"] for item in merged.json["items"]] == ["TARNO", "BELUA", "KOSVI"]
    assert client.post(f"/api/tray/undo?version={merged.json['version']}").status_code == 200


def test_two_metrics_that_come_to_use_each_other_at_once_are_not_both_kept(client: FlaskClient, kept, app):
    one = kept("own-metrics", {"key": "loop_one", "label": "One", "expression": "iv30"}).json
    two = kept("own-metrics", {"key": "loop_two", "label": "Two", "expression": "hv21"}).json
    for _ in range(5):
        answers: list[int] = []
        gate = threading.Barrier(2)

        def send(mine: dict, other: str, answers=answers, gate=gate) -> None:
            own = app.test_client()
            body = {"key": mine["key"], "label": mine["label"], "expression": f"{other} + 1"}
            gate.wait()
            answers.append(own.put(f"/api/own-metrics/{mine['id']}", json=body).status_code)

        threads = [threading.Thread(target=send, args=pair) for pair in ((one, "loop_two"), (two, "loop_one"))]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert sorted(answers) == [200, 422]
        for metric, text in ((one, "iv30"), (two, "hv21")):
            body = {"key": metric["key"], "label": metric["label"], "expression": text}
            client.put(f"/api/own-metrics/{metric['id']}", json=body)


def test_what_takes_too_long_is_refused_by_its_time_and_not_by_its_window(client: FlaskClient):
    def screen(*rules: str):
        return client.post("/api/screen", json={"stack": {"rules": [{"text": rule} for rule in rules]}, "columns": []})

    assert screen("close > mean(close, 504)", "close > wma(close, 504)").status_code == 200
    heavy = [" + ".join(f"gap_below({430 + 8 * k + n})" for n in range(8)) + " > 0" for k in range(1, 9)]
    answer = screen(*heavy)
    assert (answer.status_code, answer.json["type"]) == (422, "too_costly")
    assert "seconds of computing" in answer.json["message"]
    assert screen(heavy[0]).status_code == 200, "one of them is within bounds"
