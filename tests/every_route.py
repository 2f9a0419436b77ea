"""Every route of the API that takes a session, with what to ask of it."""

from __future__ import annotations

import json
from typing import Any

from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI
from tests.waiting import until
from werkzeug.test import TestResponse

from flinch.features.dossier.price_schemas import LAYERS

STACK = {"universe": "fund", "rules": []}
FEW = {"universe": "name:TARNO", "rules": []}
RULES = [
    {"text": rule}
    for rule in ("iv_rank >= 20", "days_to_earnings > 2", "close > sma(close, 50)", "short_interest_share >= 0")
]
COLUMNS = ["price", "iv30", "net_exposure", "price_to_book", "days_to_ex_dividend", "forecast_vol", "week_position"]
SEARCH = {"kinds": ["iron_condor", "call_calendar"]}
BODIES: dict[str, list[dict[str, Any]]] = {
    "/api/lineup": [{"source": source} for source in ("fund", "sector:Tidal Power", "stock")],
    "/api/lineup/correlation": [{"symbols": ["TARNO", "BELUA", "KESEO"]}],
    "/api/off-exchange": [{"stack": STACK}, {"stack": STACK, "view": "prints"}],
    "/api/off-exchange/export": [{"stack": FEW, "format": "csv"}],
    "/api/off-exchange/record": [{"stack": FEW}],
    "/api/screen": [
        {"stack": STACK, "columns": ["iv30", "flip", "month_position"], "against": {}},
        {"stack": {"universe": "all", "rules": RULES}, "columns": COLUMNS},
    ],
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
    "/api/dossier/price/{symbol}": [
        {"length": length, "layers": LAYERS, "below": "rsi(14)", "extended": "true"} for length in ("day", "15")
    ],
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


def asked(app: OpenAPI, symbols: tuple[str, ...] = SYMBOLS) -> list[tuple[str, str, dict[str, Any]]]:
    """Method, path, and what is asked of it beside the session, of every one of them."""
    found = taking_a_session(app)
    out = [
        ("get", path.replace("{symbol}", symbol), query)
        for path in found["get"]
        for query in QUERIES.get(path, [{}])
        for symbol in (symbols if "{symbol}" in path else ("",))
    ]
    return out + [("post", path, body) for path in found["post"] for body in BODIES[path]]


def answered(client: FlaskClient, method: str, path: str, what: dict[str, Any], day: str | None) -> TestResponse:
    """The answer as of a day; what is still being read is asked for again."""
    at = {} if day is None else {"as_of": day}
    answers: list[TestResponse] = []

    def there() -> bool:
        body: dict[str, Any] = {"query_string" if method == "get" else "json": at | what}
        # A file that is not whole yet is asked for by its number.
        if answers and answers[-1].status_code == 202:
            answers.append(client.get(f"/api/files/{answers[-1].json['id']}"))
        else:
            answers.append(getattr(client, method)(path, **body))
        return answers[-1].status_code not in (202, 503)

    until(there, path)
    return answers[-1]


def pages(client: FlaskClient, app: OpenAPI, day: str | None) -> dict[str, Any]:
    """Every page of a few names as of a day, whatever route it has."""
    out = {}
    for method, path, what in asked(app, ("TARNO", "BELUA", "KESEO", "MUFEO", "FENSO")):
        answer = answered(client, method, path, what, day)
        assert answer.status_code in (200, 404, 422), (path, answer.text)
        told = answer.json if answer.is_json else answer.text
        if isinstance(told, dict):
            # Which number the version has, and when a file was written, is no part of what it says.
            told = told | {"version": None, "notes": None}
        out[f"{method} {path} {json.dumps(what)}"] = told
    return out
