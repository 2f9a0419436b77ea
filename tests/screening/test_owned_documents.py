"""What a user owns as documents: written out, taken in elsewhere, and refused as a whole when an item will not do."""

from __future__ import annotations

import copy
import datetime as dt
import json
from pathlib import Path

import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine

from flinch.screening.owned_documents import DOCUMENTS, BadDocument, take_document, write_document
from flinch.store.owned import kept
from flinch.store.owned.kept import TooMany
from flinch.store.owned.owners import Whose, owner_called

NOW = dt.datetime(2026, 12, 1, 9, tzinfo=dt.UTC)
WHY = {"page": "Screen", "words": "tested <b>", "link": "/screen", "values": {"iv30": 31.5}}

PLANNED = {key: WHY[key] for key in ("page", "words", "link")}


@pytest.fixture
def keeper(client: FlaskClient) -> Engine:
    return client.application.extensions["flinch"].owned


@pytest.fixture
def full(client: FlaskClient, keeper: Engine):
    """One of each kind and nothing else, made by the pages' own calls, and removed again."""
    whose, made = local(keeper), []
    # Other tests may have left something.
    for known in (kept.SCREENS, kept.BASKETS, kept.OWN_METRICS, kept.OWN_LINES, kept.PLANS):
        for row in known.all(keeper, whose):
            known.remove(keeper, whose, row.id, NOW)

    def make(address: str, body: dict) -> None:
        answer = client.post(f"/api/{address}", json=body)
        assert answer.status_code == 200, answer.json
        made.append(f"/api/{address}/{answer.json['id']}")

    make("own-metrics", {"key": "twice_iv", "label": "Twice", "expression": "2 * iv30"})
    make(
        "screens",
        {"name": "Dear", "tags": ["mine"], "body": {"universe": "stock", "rules": [{"text": "twice_iv > 60"}]}},
    )
    make("baskets", {"name": "Two", "symbols": ["TARNO", "BELUA"]})
    make("lines", {"symbol": "TARNO", "name": "top", "price": 60.5, "note": "there it turned"})
    make("structures/plans", {"symbol": "TARNO", "legs": "+100S", "why": PLANNED, "notes": "until autumn"})
    client.post("/api/tray", json={"symbols": ["KESEO", "TARNO"], "why": WHY})
    yield
    for address in made:
        client.delete(address)


def local(keeper: Engine) -> Whose:
    return Whose(owner_called(keeper, "local"), "demo")


def texts(keeper: Engine, whose: Whose, folder: Path) -> dict[str, dict]:
    folder.mkdir(exist_ok=True)
    for kind in DOCUMENTS:
        write_document(keeper, whose, kind, folder / f"{kind}.json")
    return {kind: json.loads((folder / f"{kind}.json").read_text()) for kind in DOCUMENTS}


def test_what_goes_out_comes_in_elsewhere_as_it_was_and_twice_changes_nothing(full, keeper: Engine, tmp_path: Path):
    told = texts(keeper, local(keeper), tmp_path / "out")
    assert {kind: (one["kind"], one["version"], len(one["items"])) for kind, one in told.items()} == {
        kind: (kind, 1, 2 if kind == "tray" else 1) for kind in DOCUMENTS
    }
    assert told["baskets"]["items"] == [{"name": "Two", "symbols": ["TARNO", "BELUA"]}]
    assert told["plans"]["items"][0]["notes"] == "until autumn"
    other = Whose(owner_called(keeper, "somebody else"), "demo")
    for kind in DOCUMENTS:
        file = tmp_path / "out" / f"{kind}.json"
        items = len(told[kind]["items"])
        assert take_document(keeper, other, kind, file, NOW) == (items, 0, 0), kind
        assert take_document(keeper, other, kind, file, NOW) == (0, 0, items), kind
    again = texts(keeper, other, tmp_path / "again")
    for one in again["tray"]["items"]:
        assert one.pop("added_at") == "2026-12-01T09:00:00Z"
    for one in told["tray"]["items"]:
        one.pop("added_at")
    assert again == told
    # Who it came from has it all still, and to them it is nothing new.
    for kind in DOCUMENTS:
        assert take_document(keeper, local(keeper), kind, tmp_path / "again" / f"{kind}.json", NOW)[:2] == (0, 0)


def test_what_is_known_by_a_name_becomes_what_the_file_says_and_the_rest_stays(full, keeper: Engine, tmp_path: Path):
    told = texts(keeper, local(keeper), tmp_path)
    changed = copy.deepcopy(told["baskets"])
    changed["items"] = [{"name": "Two", "symbols": ["KESEO"]}, {"name": "Three", "symbols": []}]
    (tmp_path / "baskets.json").write_text(json.dumps(changed))
    assert take_document(keeper, local(keeper), "baskets", tmp_path / "baskets.json", NOW) == (1, 1, 0)
    names = {row.name: row.symbols for row in kept.BASKETS.all(keeper, local(keeper))}
    assert names == {"Two": ["KESEO"], "Three": []}
    one = next(row for row in kept.BASKETS.all(keeper, local(keeper)) if row.name == "Three")
    kept.BASKETS.remove(keeper, local(keeper), one.id, NOW)


@pytest.mark.parametrize(
    ("kind", "change", "words"),
    [
        ("screens", lambda told: told.update(kind="baskets"), "holds baskets, not screens"),
        ("screens", lambda told: told.update(version=2), "is of version 2; 1 is read"),
        ("screens", lambda told: told.pop("items"), "has no list of items"),
        ("screens", lambda told: told["items"].append({"name": "x" * 121, "body": {}}), "Item 2 .*: name"),
        ("screens", lambda told: told["items"].append(told["items"][0]), "has 'Dear' twice"),
        ("screens", lambda told: told["items"][0].update(colour="red"), "Item 1 .*: colour"),
        ("lines", lambda told: told["items"][0].update(price=-1), "Item 1 .*: price"),
        ("lines", lambda told: told["items"][0].update(since="soon"), "Item 1 .*: since"),
        ("metrics", lambda told: told["items"][0].update(key="iv30"), "iv30 is in the catalogue already"),
        ("metrics", lambda told: told["items"][0].update(key="__import__"), "Item 1 .*: key"),
        ("metrics", lambda told: told["items"][0].update(expression="2 * nothing_like_it"), "twice_iv cannot be read"),
        ("metrics", lambda told: told["items"][0].update(expression="iv30 > 2"), "twice_iv is no number"),
        ("baskets", lambda told: told["items"][0].update(symbols=["X" * 13]), "Item 1 .*: symbols"),
    ],
)
def test_what_will_not_do_is_refused_and_nothing_is_changed(
    full, keeper: Engine, tmp_path: Path, kind: str, change, words: str
):
    before = texts(keeper, local(keeper), tmp_path)
    told = copy.deepcopy(before[kind])
    change(told)
    (tmp_path / f"{kind}.json").write_text(json.dumps(told))
    with pytest.raises(BadDocument, match=words):
        take_document(keeper, local(keeper), kind, tmp_path / f"{kind}.json", NOW)
    assert texts(keeper, local(keeper), tmp_path) == before


def test_more_than_are_kept_are_refused_and_none_is_taken(
    full, keeper: Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    before = texts(keeper, local(keeper), tmp_path)
    told = copy.deepcopy(before["baskets"])
    told["items"] += [{"name": f"B{n}", "symbols": []} for n in range(3)]
    (tmp_path / "baskets.json").write_text(json.dumps(told))
    monkeypatch.setattr(kept.BASKETS, "most", 3)
    with pytest.raises(TooMany):
        take_document(keeper, local(keeper), "baskets", tmp_path / "baskets.json", NOW)
    assert texts(keeper, local(keeper), tmp_path)["baskets"] == before["baskets"]


@pytest.mark.parametrize("text", ["[1]", "{", '{"items": 3}', "[" * 100_000])
def test_what_is_no_document_is_refused(keeper: Engine, tmp_path: Path, text: str):
    (tmp_path / "tray.json").write_text(text)
    with pytest.raises(BadDocument, match="Nothing was changed"):
        take_document(keeper, local(keeper), "tray", tmp_path / "tray.json", NOW)
