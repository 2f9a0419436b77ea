"""The tray through HTTP, and what happens while the database is away."""

from pathlib import Path

import pytest
from flask.testing import FlaskClient
from tests.kept_market import copied_database

from flinch.app import create_app
from flinch.feeds.simulated.calendar import AS_OF
from flinch.settings import Settings
from flinch.store.databases import DEMO
from flinch.store.engine import make_engine
from flinch.store.market.state import begin_load, finish_load, read_state
from flinch.store.owned.tray import MOST_ENTRIES

WHY = {
    "page": "Screen",
    "words": "stocks · 1.2 ≤ IV/HV",
    "link": "/screen?iv_hv_ratio=1.2..",
    "values": {"iv_hv_ratio": 1.61},
}


def add(client: FlaskClient, *symbols: str, **why):
    return client.post("/api/tray", json={"symbols": list(symbols), "why": WHY | why})


def symbols(answer) -> list[str]:
    assert answer.status_code == 200, answer.text
    return [item["symbol"] for item in answer.json["items"]]


def test_add_remove_clear_and_undo(client: FlaskClient):
    assert symbols(add(client, "TARNO", "belua")) == ["TARNO", "BELUA"]
    assert symbols(client.delete("/api/tray/tarno")) == ["BELUA"]
    assert symbols(client.post("/api/tray/undo")) == ["TARNO", "BELUA"]
    assert symbols(client.delete("/api/tray")) == []
    answer = client.post("/api/tray/undo")
    assert symbols(answer) == ["TARNO", "BELUA"]
    assert answer.json["undo"] == "add 2 names"


def test_each_name_keeps_why_it_came(client: FlaskClient):
    add(client, "TARNO")
    item = client.get("/api/tray").json["items"][0]
    assert item["why"] == WHY
    assert item["company"] == "Tarno Lagoon Energy"
    assert item["added_at"].endswith("Z")


def test_with_one_unknown_name_none_is_added(client: FlaskClient):
    answer = add(client, "TARNO", "TARNA")
    assert answer.status_code == 404
    assert "TARNO" in answer.json["nearest"]
    assert symbols(client.get("/api/tray")) == []


def test_removing_what_is_not_there_changes_nothing(client: FlaskClient):
    add(client, "TARNO")
    assert symbols(client.delete("/api/tray/BELUA")) == ["TARNO"]
    assert symbols(client.delete("/api/tray/%F0%9F%98%80")) == ["TARNO"]


@pytest.mark.parametrize(
    "body",
    [
        {},
        {"symbols": [], "why": WHY},
        {"symbols": ["TARNO"] * 501, "why": WHY},
        {"symbols": ["TARNO"], "why": {"page": "Screen"}},
        {"symbols": ["TARNO"], "why": WHY | {"link": "https://elsewhere.example/"}},
        {"symbols": ["TARNO"], "why": WHY | {"link": "//elsewhere.example/"}},
        {"symbols": ["TARNO"], "why": WHY | {"link": "javascript:alert(1)"}},
        {"symbols": ["TARNO"], "why": WHY | {"more": 1}},
        {"symbols": "TARNO", "why": WHY},
        {"symbols": ["T" * 65], "why": WHY},
    ],
)
def test_a_malformed_addition_is_refused_with_the_place(client: FlaskClient, body: dict):
    answer = client.post("/api/tray", json=body)
    assert answer.status_code == 422
    assert answer.json["where"]
    assert symbols(client.get("/api/tray")) == []


def test_broken_or_huge_bodies_are_refused(client: FlaskClient):
    assert client.post("/api/tray", data="{", content_type="application/json").status_code in (400, 422)
    assert client.post("/api/tray", data=b" " * (2 << 20), content_type="application/json").status_code == 413


def test_a_full_tray_says_so(client: FlaskClient, market):
    everyone = [name.symbol for name in market.frame.names]
    assert len(symbols(add(client, *everyone[: MOST_ENTRIES - 1]))) == MOST_ENTRIES - 1
    answer = add(client, *everyone[MOST_ENTRIES - 1 : MOST_ENTRIES + 1])
    assert answer.status_code == 409
    assert "nothing was added" in answer.json["message"]


def test_while_the_database_is_away_pages_stay_and_changes_say_so(tmp_path: Path):
    server = copied_database(tmp_path / "database")
    server.start()
    try:
        engine = make_engine(server.market_url)
        client = create_app(Settings(), server.databases).test_client()
        state = read_state(engine)
        assert state is not None
        begin_load(engine, source=state.source, source_version=state.source_version, as_of=AS_OF, rate=state.rate)
        waiting = client.get("/api/market")
        assert waiting.status_code == 503
        assert waiting.json["type"] == "market_not_ready"
        finish_load(engine)
        assert client.post("/api/screen", json={"stack": {}}).status_code == 200
        assert symbols(add(client, "TARNO")) == ["TARNO"]

        server.stop()
        client.application.extensions["flinch"].markets.open(DEMO).holder._checked = -1e9  # as after two seconds
        assert client.post("/api/screen", json={"stack": {}}).status_code == 200, "the market is held in memory"
        assert client.get("/api/dossier/TARNO").status_code == 200
        for answer in (
            client.get("/api/tray"),
            add(client, "BELUA"),
            client.delete("/api/tray"),
            client.post("/api/tray/undo"),
        ):
            assert answer.status_code == 503
            assert answer.json["type"] == "database_away"
            assert "Nothing was changed" in answer.json["message"]
        unborn = create_app(Settings(), server.databases).test_client()
        assert unborn.post("/api/screen", json={"stack": {}}).status_code == 503

        server.start()
        assert symbols(client.get("/api/tray")) == ["TARNO"], "nothing was lost"
        assert symbols(add(client, "BELUA")) == ["TARNO", "BELUA"]
        assert unborn.post("/api/screen", json={"stack": {}}).status_code == 200
    finally:
        server.stop()


def test_another_site_may_not_change_the_tray(client: FlaskClient):
    add(client, "TARNO")
    answer = client.post("/api/tray/undo", headers={"Sec-Fetch-Site": "cross-site"})
    assert answer.status_code == 403
    assert symbols(client.get("/api/tray")) == ["TARNO"]
    assert client.get("/api/tray", headers={"Host": "elsewhere.example"}).status_code == 400
