"""What attacks found: texts that cannot be written down, one key twice at once, a full disk, several owners, many lines."""

from __future__ import annotations

import datetime as dt
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest
from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI
from sqlalchemy import Engine, delete, event
from sqlalchemy.orm import Session
from tests.somebody import somebody

from flinch.store.databases import DEMO
from flinch.store.errors import DatabaseAway, DiskFull
from flinch.store.owned.kept import BASKETS, OWN_LINES
from flinch.store.owned.models import OwnLine

WHY = {"page": "Screen", "words": "by hand"}


def test_half_a_letter_in_a_rule_is_told_at_its_place(client: FlaskClient):
    for rule in ("sector == '\\ud800'", "sector in ('Household', '\\udfff')"):
        answer = client.post("/api/screen", json={"stack": {"universe": "all", "rules": [{"text": rule}]}})
        assert answer.status_code == 200
        error = answer.json["rules"][0]["error"]
        assert "half a character" in error["message"]
        assert error["start"] > 0


@pytest.mark.parametrize(
    ("data", "kind", "status", "says"),
    [
        ('{"text": "1"}', "application/x+json", 415, "application/json"),
        ('{"first": ' + "9" * 5_000 + "}", "application/json", 422, "thousands of digits"),
    ],
)
def test_bodies_that_no_reader_takes_are_refused_with_words(client: FlaskClient, data, kind, status, says):
    answer = client.post("/api/screen", data=data, content_type=kind)
    assert answer.status_code == status
    assert says in answer.json["message"]


def test_a_refusal_does_not_repeat_kilobytes(client: FlaskClient):
    answer = client.get(f"/api/peek/{'Z' * 5_000}")
    assert answer.status_code in (404, 422)
    assert len(answer.get_data()) < 2_000


def test_one_key_sent_twice_at_once_is_one_change(app: OpenAPI, empty_tray: None):
    """Whoever comes second waits, and is answered what the first one was; another body under the same key is refused."""
    body = {"name": "sent twice at once", "symbols": ["TARNO"]}
    header = {"Idempotency-Key": "twice-at-once-1"}
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda _: app.test_client().post("/api/baskets", json=body, headers=header), range(6)))
    try:
        assert [answer.status_code for answer in answers] == [200] * 6
        assert len({answer.get_data() for answer in answers}) == 1
        other = app.test_client().post("/api/baskets", json=body | {"name": "another"}, headers=header)
        assert (other.status_code, other.json["type"]) == (422, "key_used")
    finally:
        app.test_client().delete(f"/api/baskets/{answers[0].json['id']}")


def test_a_change_that_was_kept_is_answered_though_the_disk_is_full_then(
    client: FlaskClient, monkeypatch: pytest.MonkeyPatch
):
    def full(*_: object) -> None:
        raise DiskFull

    monkeypatch.setattr("flinch.web.keys.keep_answer", full)
    answer = client.post(
        "/api/tray", json={"symbols": ["TARNO"], "why": WHY}, headers={"Idempotency-Key": "full-disk-1"}
    )
    assert answer.status_code == 200
    assert [item["symbol"] for item in client.get("/api/tray").json["items"]] == ["TARNO"]


def test_own_metrics_stay_with_their_owner_while_the_database_is_away(app: OpenAPI, monkeypatch: pytest.MonkeyPatch):
    """Two owners, each of whom was there before; then the database goes."""
    asked = {"who": "first owner"}
    monkeypatch.setattr("flinch.web.who", lambda: asked["who"])
    body = {"key": "mine_alone", "label": "Mine", "unit": "", "expression": "iv30 - hv21"}
    saved = app.test_client().post("/api/own-metrics", json=body).json
    try:

        def knows() -> bool:
            stack = {"universe": "fund", "rules": [{"text": "mine_alone > 0"}]}
            (rule,) = app.test_client().post("/api/screen", json={"stack": stack}).json["rules"]
            return rule["error"] is None

        assert knows()
        asked["who"] = "second owner"
        assert not knows()
        asked["who"] = "first owner"
        assert knows()

        def away(*_: object, **__: object) -> None:
            raise DatabaseAway

        with monkeypatch.context() as patch:
            patch.setattr("flinch.web.OWN_METRICS.all", away)
            assert knows(), "as it was when the database was last there"
            asked["who"] = "second owner"
            assert not knows()
    finally:
        asked["who"] = "first owner"
        app.test_client().delete(f"/api/own-metrics/{saved['id']}")


def test_two_thousand_lines_are_read_with_one_query(owned: Engine):
    owner = somebody(owned, "somebody with many lines")
    with Session(owned) as session, session.begin():
        session.add_all(
            OwnLine(
                owner_id=owner.owner, market=DEMO, version=1,
                symbol="TARNO", name="", price=float(n + 1), note="", since=dt.date(2026, 9, 1),
                deleted_at=None,
            )
            for n in range(2_000)
        )  # fmt: skip
    told: list[str] = []

    def heard(_connection, _cursor, statement: str, *_: object) -> None:
        told.append(statement)

    event.listen(owned, "before_cursor_execute", heard)
    try:
        assert len(OWN_LINES.all(owned, owner)) == 2_000
    finally:
        event.remove(owned, "before_cursor_execute", heard)
        with Session(owned) as session, session.begin():
            session.execute(delete(OwnLine).where(OwnLine.owner_id == owner.owner))
    assert len([statement for statement in told if "own_line" in statement]) == 1


def test_a_removal_can_be_taken_back_for_a_month_and_is_gone_after_it(owned: Engine):
    owner, now = somebody(owned, "somebody who removes"), dt.datetime(2026, 9, 9, tzinfo=dt.UTC)
    values = {"symbols": ["TARNO"], "changed_at": dt.datetime(2026, 9, 1)}
    first, second, third = (BASKETS.save(owned, owner, values | {"name": f"kept {n}"}) for n in range(3))
    BASKETS.remove(owned, owner, first.id, now - dt.timedelta(days=31))
    BASKETS.remove(owned, owner, second.id, now - dt.timedelta(days=29))
    BASKETS.remove(owned, owner, third.id, now)
    assert not BASKETS.restore(owned, owner, first.id)
    assert BASKETS.restore(owned, owner, second.id)
    assert BASKETS.restore(owned, owner, third.id)
    for basket in (second, third):
        BASKETS.remove(owned, owner, basket.id, now)


def test_what_was_changed_elsewhere_is_not_removed_unseen(client: FlaskClient):
    """Of every kind that is kept: a removal says which version it saw, and one of another is refused and changes nothing."""
    drafts: list[tuple[str, dict[str, Any], dict[str, Any]]] = [
        ("/api/baskets", {"name": "seen", "symbols": ["TARNO"]}, {"symbols": ["BELUA"]}),
        ("/api/lines", {"symbol": "TARNO", "price": 50.0}, {"price": 60.0}),
        ("/api/own-metrics", {"key": "seen_metric", "label": "Seen", "expression": "close"}, {"label": "Other"}),
        ("/api/screens", {"name": "seen", "body": {"universe": "all", "rules": []}}, {"description": "other"}),
        (
            "/api/structures/plans",
            {"symbol": "TARNO", "legs": "+100S", "why": {"page": "Structures", "words": "x"}},
            {"notes": "other"},
        ),
    ]
    for path, draft, change in drafts:
        answer = client.post(path, json=draft)
        assert answer.status_code == 200, answer.text
        made = answer.json
        place = f"{path}/{made['id']}"
        changed = client.put(place, json=draft | change | {"version": made["version"]})
        assert changed.status_code == 200, changed.text
        refused = client.delete(place, query_string={"version": made["version"]})
        assert (refused.status_code, refused.json["type"]) == (409, "changed_elsewhere"), path
        assert client.delete(place, query_string={"version": changed.json["version"]}).status_code == 200
        assert client.delete(place).status_code == 404, "gone, and not twice"
