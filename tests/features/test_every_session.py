"""Any page as of any session: every route that takes a session answers for sessions of every kind, the first ones among them."""

from __future__ import annotations

import re

import pytest
from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI
from tests.every_route import BODIES, QUERIES, answered, asked, taking_a_session

from flinch.market import View


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
    days, failed = sessions(market), []
    assert len(days) == 20
    day = days[place]
    for method, path, what in asked(app):
        answer = answered(client, method, path, what, day)
        if answer.status_code >= 500:
            failed.append((path, what, answer.status_code))
        elif answer.status_code == 200 and answer.is_json:
            told = answer.json
            if isinstance(told, dict) and re.fullmatch(r"\d{4}-\d\d-\d\d", str(told.get("session"))):
                assert told["session"] <= day, path
    assert failed == []
