"""Calls made up from the API's own description: every answer is one that the description knows, and none is an error of ours."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
import schemathesis
from flask_openapi3 import OpenAPI
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)
from sqlalchemy import Engine
from tests.somebody import somebody

from flinch.clock import wall
from flinch.store.databases import DEMO
from flinch.store.owned.kept import BASKETS, OWN_LINES, OWN_METRICS, PLANS, SCREENS

_DESCRIPTION = json.loads((Path(__file__).resolve().parents[2] / "ui/openapi.json").read_text())
_CALLS = [(path, method.upper()) for path, methods in _DESCRIPTION["paths"].items() for method in methods]


@pytest.fixture(scope="module")
def described(app: OpenAPI) -> schemathesis.BaseSchema:
    return schemathesis.openapi.from_wsgi("/api/openapi.json", app)


@pytest.fixture
def nothing_left(app: OpenAPI, owned: Engine, empty_tray: None) -> Iterator[None]:
    """What calls have kept, or brought back of what others removed, is removed again: other tests count what is there."""
    yield
    client = app.test_client()
    markets = app.extensions["flinch"].markets
    for name in markets.names():
        if name != DEMO:
            markets.remove(name)
    assert client.put("/api/markets/chosen", json={"market": DEMO}).status_code == 200
    assert client.put("/api/run", json={"speed": 0}).status_code == 200
    whose = somebody(owned)
    for things in (SCREENS, BASKETS, OWN_METRICS, OWN_LINES, PLANS):
        for one in things.all(owned, whose):
            things.remove(owned, whose, one.id, wall())
    client.delete("/api/tray")


@pytest.mark.parametrize(("path", "method"), _CALLS)
def test_whatever_the_description_allows_is_answered_as_it_says(
    app: OpenAPI, described: schemathesis.BaseSchema, nothing_left: None, path: str, method: str
):
    client = app.test_client()

    @given(case=described[path][method].as_strategy())
    @settings(
        max_examples=15,
        deadline=None,
        derandomize=True,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    def answered(case: schemathesis.Case) -> None:
        # Made up names of markets are refused alike by all; that every route does is tested by its own.
        case.query.pop("market", None)
        answer = case.call_and_validate(
            # The generator reads the application's answers as they come, so none may be compressed.
            headers={"Accept-Encoding": "identity"},
            checks=[
                not_a_server_error,
                status_code_conformance,
                content_type_conformance,
                response_schema_conformance,
            ],
        )
        if answer.status_code == 202:
            # Nobody waits for this file: others need not either.
            client.delete(f"/api/files/{answer.json()['id']}")

    answered()


def test_the_description_says_what_it_should():
    assert _DESCRIPTION["components"].get("securitySchemes", {}) == {}
    for methods in _DESCRIPTION["paths"].values():
        for told in methods.values():
            assert {"403", "404", "405", "422", "503"} <= set(told["responses"])
            [market] = [one for one in told["parameters"] if one["name"] == "market"]
            assert (market["in"], market["required"]) == ("query", False)
            for status, answer in told["responses"].items():
                for kind in answer["content"].values():
                    assert kind.get("schema"), "every answer's content is described"
                if status[0] in "45":
                    assert answer["content"]["application/json"]["schema"] == {"$ref": "#/components/schemas/Problem"}
