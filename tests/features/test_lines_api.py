"""Own lines over HTTP: put, moved, taken away and put back; told with their distance and chance; asked for by rules."""

import datetime as dt

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine, event
from tests.asked import ask_evidence

from flinch.core.evidence import flat_smile, past_touch, touch_chance
from flinch.core.rules import METRICS
from flinch.core.rules.catalogue.lines import GROUP
from flinch.core.volatility import constant_maturity_vol
from flinch.features.screen.evidence import EvidenceRequest, asked_for
from flinch.market import View
from flinch.market.own_lines import LineAt
from flinch.store.databases import DEMO

pytestmark = pytest.mark.usefixtures("no_lines")


def put(client: FlaskClient, symbol: str, price: float, status=200, **more) -> dict:
    answer = client.post("/api/lines", json={"symbol": symbol, "price": price, **more})
    assert answer.status_code == status, answer.text
    return answer.json


def of(client: FlaskClient, symbol: str, status=200, **query) -> dict:
    answer = client.get(f"/api/lines/of/{symbol}", query_string=query)
    assert answer.status_code == status, answer.text
    return answer.json


def screen(client: FlaskClient, *rules: str, columns=(), **more) -> dict:
    stack = {"universe": "all", "rules": [{"text": rule} for rule in rules]}
    answer = client.post("/api/screen", json={"stack": stack, "columns": list(columns), **more})
    assert answer.status_code == 200, answer.text
    return answer.json


def test_a_line_is_told_with_its_distance(client: FlaskClient, market: View):
    put(client, "vusvo", 130.0, name=" resistance ", note="three times turned back")
    put(client, "VUSVO", 120.5)
    put(client, "TARNO", 10.0)
    found = of(client, "VUSVO")
    assert [(line["name"], line["price"]) for line in found["lines"]] == [("resistance", 130.0), ("", 120.5)]
    first, row = found["lines"][0], market.row("VUSVO")
    assert first["note"] == "three times turned back"
    assert first["since"] == "2026-09-09"
    price, move = market.price(row), market.metric("next_day_move")[row]
    assert first["away_pct"] == pytest.approx(100 * (130 / price - 1))
    assert first["away_moves"] == pytest.approx((130 - price) / move)
    assert found["lines"][1]["away_moves"] < 0


def test_chances_are_those_of_the_surface_and_of_the_past(client: FlaskClient, market: View):
    row = market.row("VUSVO")
    price = market.price(row)
    for away in (1.0001, 1.03, 1.1, 0.97, 0.9):
        put(client, "VUSVO", away * price)
    found = of(client, "VUSVO", by="2026-10-09")
    assert found["by"] == "2026-10-09"
    assert found["sessions"] == 22
    chances = {round(line["price"] / price, 4): line for line in found["lines"]}
    assert chances[1.0001]["priced_chance_pct"] > 97
    assert chances[1.1]["priced_chance_pct"] < chances[1.03]["priced_chance_pct"] < 100
    assert chances[0.9]["priced_chance_pct"] < chances[0.97]["priced_chance_pct"]
    # Near the money the smile is nearly its middle.
    expiries = market.readable_expirations(row)
    years = (dt.datetime(2026, 10, 9, 20) - dt.datetime(2026, 9, 9, 19, 45)).total_seconds() / 86_400 / 365
    vol = constant_maturity_vol([e.years for e in expiries], [e.vol for e in expiries], years)
    plain = 100 * float(touch_chance(np.array(1.03), flat_smile(np.array(vol**2 * years))))
    assert chances[1.03]["priced_chance_pct"] == pytest.approx(plain, abs=4)
    # Far below it the skew makes a fall likelier than the middle says.
    fall = 100 * float(touch_chance(np.array(0.9), flat_smile(np.array(vol**2 * years))))
    assert chances[0.9]["priced_chance_pct"] > fall + 0.5
    _, high, low, close = market.prices(row)
    for away, line in chances.items():
        past = past_touch(high, low, close, away * price, 22)
        assert line["past_chance_pct"] == pytest.approx(100 * past.chance, abs=0.8)
        assert (line["past_windows"], line["past_apart"]) == (504 - 22, 21)
    longer = of(client, "VUSVO", by="2027-01-15")
    assert all(
        a["priced_chance_pct"] >= b["priced_chance_pct"] for a, b in zip(longer["lines"], found["lines"], strict=True)
    )


def test_a_name_without_options_has_the_past_alone(client: FlaskClient, market: View):
    row = next(row for row in range(len(market.frame.names)) if not market.readable_expirations(row))
    symbol, price = market.name(row).symbol, market.price(row)
    if not np.isfinite(price):
        price = 10.0
    put(client, symbol, 1.02 * price)
    (line,) = of(client, symbol)["lines"]
    assert line["priced_chance_pct"] is None
    assert line["priced_reason"]


def test_a_line_is_moved_taken_away_and_put_back(client: FlaskClient):
    line = put(client, "VUSVO", 125.0, name="roof")
    body = {"symbol": "VUSVO", "name": "roof", "price": 126.5, "note": "", "version": line["version"]}
    moved = client.put(f"/api/lines/{line['id']}", json=body).json
    assert (moved["price"], moved["version"]) == (126.5, 2)
    stale = client.put(f"/api/lines/{line['id']}", json=body | {"price": 127})
    assert stale.status_code == 409
    assert stale.json["type"] == "changed_elsewhere"
    assert of(client, "VUSVO")["lines"][0]["price"] == 126.5
    assert client.delete(f"/api/lines/{line['id']}").status_code == 200
    assert of(client, "VUSVO")["lines"] == []
    assert client.delete(f"/api/lines/{line['id']}").status_code == 404
    assert client.put(f"/api/lines/{line['id']}", json=body | {"version": None}).status_code == 404
    assert client.post(f"/api/lines/{line['id']}/restore").status_code == 200
    assert [line["price"] for line in of(client, "VUSVO")["lines"]] == [126.5]


def test_sent_twice_under_a_key_it_is_put_once(client: FlaskClient):
    for _ in range(2):
        answer = client.post(
            "/api/lines", json={"symbol": "VUSVO", "price": 125.0}, headers={"Idempotency-Key": "line-key-000001"}
        )
        assert answer.status_code == 200
    assert len(of(client, "VUSVO")["lines"]) == 1


def test_rules_find_names_near_a_line(client: FlaskClient, market: View):
    price = {symbol: market.price(market.row(symbol)) for symbol in ("VUSVO", "BRIVI", "TARNO")}
    assert screen(client, "line_above <= 3")["symbols"] == []
    put(client, "VUSVO", 1.02 * price["VUSVO"])
    put(client, "VUSVO", 1.05 * price["VUSVO"])
    put(client, "BRIVI", 1.10 * price["BRIVI"])
    put(client, "TARNO", 0.99 * price["TARNO"])
    found = screen(
        client, "line_above <= 3", columns=["line_above", "line_above_price", "line_above_moves", "line_below"]
    )
    assert found["symbols"] == ["VUSVO"]
    above, level, moves, below = (column["numbers"][0] for column in found["columns"])
    assert above == pytest.approx(2)
    assert level == pytest.approx(1.02 * price["VUSVO"])
    assert moves == pytest.approx(0.02 * price["VUSVO"] / market.metric("next_day_move")[market.row("VUSVO")])
    assert below is None
    assert screen(client, "line_below >= -2")["symbols"] == ["TARNO"]
    tickets = client.post(
        "/api/tape", json={"stack": {"universe": "all", "rules": [{"text": "line_above <= 3"}]}, "view": "names"}
    ).json
    assert tickets["symbols"] == ["VUSVO"]


def test_a_line_is_not_known_before_it_was_put_there(client: FlaskClient, market: View):
    price = market.price(market.row("VUSVO"))
    put(client, "VUSVO", 1.02 * price)
    assert screen(client, "line_above <= 50", as_of="2026-09-08")["symbols"] == []
    before = of(client, "VUSVO", as_of="2026-09-08")
    assert (before["lines"], before["later"]) == ([], 1)
    values = client.get("/api/dossier/over-time/VUSVO?expression=line_above").json["values"]
    assert values[-1] == pytest.approx(2)
    assert set(values[:-1]) == {None}
    body = {"stack": {"universe": "all", "rules": [{"text": "line_above <= 50"}]}, "side": "up"}
    answer = ask_evidence(client, body)
    assert answer.status_code == 200
    assert answer.json["evidence"]["cases"] <= 1


def test_why_there_is_none_is_said_and_the_handbook_knows_it(client: FlaskClient):
    put(client, "VUSVO", 1.0)
    (column,) = screen(client, 'symbol == "VUSVO"', columns=["line_above"])["columns"]
    assert column["reasons"] == {"VUSVO": "no line of yours lies above the price"}
    entries = {entry["key"]: entry for entry in client.get("/api/handbook").json["metrics"]}
    assert entries["line_above"]["needs"] == ["close", "line_above_price"]


def test_what_can_be_no_line_is_refused(client: FlaskClient):
    assert put(client, "NOSUCH", 10.0, status=404)["type"] == "unknown_name"
    for price in (0, -1, 1e10):
        assert put(client, "VUSVO", price, status=422)["where"] == "price"
    assert put(client, "VUSVO", 10, status=422, name="x" * 61)["where"] == "name"
    assert "is not after 9 Sep 2026" in of(client, "VUSVO", status=422, by="2026-09-09")["message"]
    assert "Sessions are known until" in of(client, "VUSVO", status=422, by="2060-01-01")["message"]
    for number in range(40):
        put(client, "VUSVO", 100 + number)
    refused = put(client, "VUSVO", 99, status=409)
    assert "40 are kept at most" in refused["message"]
    put(client, "BRIVI", 40)


def test_lines_that_have_not_changed_are_not_read_again(client: FlaskClient):
    """Every change is seen by the next request; without one, a stamp of them is all that is read."""
    read: list[str] = []

    def heard(_connection, _cursor, statement: str, *_: object) -> None:
        if "own_line.price" in statement:
            read.append(statement)

    def found(*lines: float) -> None:
        symbols = screen(client, "line_above > 0", columns=["line_above"])["symbols"]
        assert ("VUSVO" in symbols) == bool(lines)

    event.listen(Engine, "before_cursor_execute", heard)
    try:
        found()
        first = put(client, "VUSVO", 130.0)
        found(130.0)
        read.clear()
        for _ in range(3):
            found(130.0)
        assert read == []
        second = put(client, "VUSVO", 140.0)
        client.delete(f"/api/lines/{first['id']}")
        found(140.0)
        assert len(read) > 0
        # As many as before, of the same versions, and others all the same.
        client.delete(f"/api/lines/{second['id']}")
        found()
        client.post(f"/api/lines/{first['id']}/restore")
        found(130.0)
        read.clear()
        moved = client.put(f"/api/lines/{first['id']}", json={"symbol": "VUSVO", "price": 0.5})
        assert moved.status_code == 200, moved.text
        found()
    finally:
        event.remove(Engine, "before_cursor_execute", heard)


@pytest.mark.parametrize(("rule", "along"), [("line_above <= 5", True), ("iv_rank >= 50", False)])
def test_evidence_takes_lines_along_where_a_rule_may_use_them(market: View, rule: str, along: bool):
    lines = (LineAt("VUSVO", 130.0, dt.date(2026, 9, 9)),)
    request = EvidenceRequest(stack={"rules": [{"text": rule}]})
    assert bool(asked_for(DEMO, market, (), lines, request)["lines"]) == along
    assert asked_for(DEMO, market, (("near", "line_above"),), lines, request)["lines"], "an own metric may"


def test_every_metric_of_lines_can_be_told_by_its_key():
    """By which evidence sees that a text may use them."""
    keys = [key for key, metric in METRICS.items() if metric.group == GROUP]
    assert len(keys) > 2
    assert all("line" in key for key in keys)
