"""Any page as of any session: every route that takes a session answers for sessions of every kind, the first ones among them."""

from __future__ import annotations

import re
from typing import Any

import pytest
from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI
from tests.waiting import until

from flinch.market import View

STACK = {"universe": "fund", "rules": []}
FEW = {"universe": "name:TARNO", "rules": []}
SEARCH = {"kinds": ["iron_condor", "call_calendar"]}
BODIES: dict[str, list[dict[str, Any]]] = {
    "/api/lineup": [{"source": "fund"}],
    "/api/lineup/correlation": [{"symbols": ["TARNO", "BELUA", "KESEO"]}],
    "/api/off-exchange": [{"stack": STACK}, {"stack": STACK, "view": "prints"}],
    "/api/off-exchange/export": [{"stack": FEW, "format": "csv"}],
    "/api/off-exchange/record": [{"stack": FEW}],
    "/api/screen": [{"stack": STACK, "columns": ["iv30", "flip", "month_position"], "against": {}}],
    "/api/screen/export": [{"stack": FEW, "format": "json"}],
    "/api/screen/rows": [{"stack": STACK, "columns": ["price"]}],
    "/api/screen/series": [{"symbols": ["TARNO"], "what": "price"}],
    "/api/structures": [{"stack": FEW, "search": SEARCH}],
    "/api/structures/export": [{"stack": FEW, "search": SEARCH, "format": "csv"}],
    "/api/structures/one": [{"symbol": "TARNO", "legs": "+100S"}],
    "/api/structures/together": [{"structures": [{"symbol": "TARNO", "legs": "+100S"}]}],
    "/api/tape": [{"stack": FEW, "view": view} for view in ("names", "tickets", "contracts", "day")],
    "/api/tape/export": [{"stack": FEW, "format": "csv", "view": "tickets"}],
    "/api/tape/name": [{"stack": FEW, "symbol": "TARNO"}],
}
QUERIES: dict[str, list[dict[str, Any]]] = {
    "/api/dossier/chain-file/{symbol}": [{"format": "csv"}],
    "/api/dossier/over-time/{symbol}": [{"expression": "iv_rank + rsi(14)"}],
    "/api/dossier/positioning/{symbol}": [{"against": moment} for moment in ("snapshot", "yesterday", "week")],
    "/api/dossier/price/{symbol}": [{"length": "day"}, {"length": "15", "extended": "true"}],
    "/api/tape/fills/{symbol}": [{"session": "2026-09-08", "place": 0}],
}
SYMBOLS = ("TARNO", "KESEO")


def taking_a_session(app: OpenAPI) -> dict[str, list[str]]:
    """Paths of the API that take a session, by method."""
    found: dict[str, list[str]] = {"get": [], "post": []}
    schemas = app.api_doc["components"]["schemas"]
    for path, methods in app.api_doc["paths"].items():
        for method, described in methods.items():
            names = {parameter["name"] for parameter in described.get("parameters", [])}
            for content in described.get("requestBody", {}).get("content", {}).values():
                body = schemas.get(content["schema"].get("$ref", "").rsplit("/", 1)[-1], {})
                names |= set(body.get("properties", {}))
            if "as_of" in names:
                found[method].append(path)
    return found


def test_every_route_that_takes_a_session_is_walked(app: OpenAPI):
    found = taking_a_session(app)
    assert set(found["post"]) == set(BODIES), "add a body for a new route above"
    assert set(QUERIES) <= set(found["get"])
    assert len(found["get"]) >= 15


def sessions(market: View) -> list[str]:
    """The first ones, the last ones of which more and more is kept, and some in between."""
    places = sorted({0, 1, 2, 5, 21, 64, 252, *range(market.last - 12, market.last + 1)})
    return [str(market.date(place)) for place in places]


@pytest.mark.parametrize("place", range(20))
def test_any_page_as_of_any_session_is_answered(client: FlaskClient, app: OpenAPI, market: View, place: int):
    days = sessions(market)
    assert len(days) == 20
    day, found, failed = days[place], taking_a_session(app), []

    def look(method: str, path: str, **asked: Any) -> None:
        answers = []

        def answered() -> bool:
            # What is still being read is asked for again.
            answers.append(getattr(client, method)(path, **asked))
            return answers[-1].status_code != 503

        until(answered, path)
        if answers[-1].status_code >= 500:
            failed.append((path, asked, answers[-1].status_code))
        elif answers[-1].status_code == 200 and answers[-1].is_json:
            told = answers[-1].json
            if isinstance(told, dict) and re.fullmatch(r"\d{4}-\d\d-\d\d", str(told.get("session"))):
                assert told["session"] <= day, path

    for path in found["get"]:
        for query in QUERIES.get(path, [{}]):
            for symbol in SYMBOLS if "{symbol}" in path else ("",):
                look("get", path.replace("{symbol}", symbol), query_string={"as_of": day} | query)
    for path in found["post"]:
        for body in BODIES[path]:
            look("post", path, json={"as_of": day} | body)
    assert failed == []
