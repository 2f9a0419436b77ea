"""Whatever is sent to a route that reads, it is answered, or refused with a message that says what is wrong and where."""

from __future__ import annotations

import copy
import json
from typing import Any
from urllib.parse import quote

import pytest
from flask_openapi3 import OpenAPI
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.taken import taken

STACK = {
    "universe": "stock",
    "rules": [
        {"text": "price >= 20", "on": True, "bars": "day", "group": 1},
        {"text": "10 <= iv_rank <= 90", "group": 1},
        {"text": "open_interest >= 1000"},
    ],
    "any_groups": [1],
}
COLUMNS = ["price", "iv_rank", "net_exposure"]
BODIES: dict[str, dict[str, Any]] = {
    "/api/screen": {
        "stack": STACK,
        "columns": COLUMNS,
        "as_of": "2026-09-02",
        "aim": 20,
        "against": {"session": "2026-08-20", "symbols": ["TARNO"]},
    },
    "/api/screen/rows": {
        "stack": STACK, "columns": COLUMNS, "sort": ["sector", "-price"], "first": 3, "count": 20, "as_of": "2026-09-02",
    },
    "/api/screen/evidence": {
        "stack": {"universe": "fund", "rules": [{"text": "iv_rank >= 50"}]},
        "fresh": True,
        "target": {"kind": "up", "moves": 1.5, "sessions": 5},
    },
    "/api/screen/export": {
        "stack": STACK, "columns": COLUMNS, "sort": ["-price"], "name": "mine", "format": "csv", "as_of": "2026-09-02",
    },
    "/api/screen/series": {"symbols": ["TARNO", "BELUA"], "what": "volatility", "sessions": 63, "as_of": "2026-09-02"},
    "/api/lineup": {"source": "sector:Tidal Power", "metric": "iv30", "baseline": "own", "own": "mean(iv30, 63)"},
    "/api/lineup/correlation": {"symbols": ["TARNO", "BELUA"], "sessions": 63},
    "/api/check": {"text": "close > sma(close, 50)", "bars": "day"},
    "/api/baskets/read": {"text": "TARNO, BELUA; nonsense"},
}  # fmt: skip
QUERIES: dict[str, dict[str, str]] = {
    "/api/dossier/{}": {"estimator": "yang_zhang", "window": "21"},
    "/api/dossier/volatility/{}": {"estimator": "parkinson", "window": "63"},
    "/api/dossier/expected-move/{}": {},
    "/api/dossier/positioning/{}": {"rule": "both_sold", "against": "week", "expirations": "2026-09-18", "fan": "2026-09-18"},
    "/api/dossier/chain/{}": {"expiration": "2026-09-18"},
    "/api/dossier/chain-file/{}": {"expiration": "2026-09-18", "format": "csv"},
    "/api/dossier/over-time/{}": {"expression": "iv30 / hv_yang_zhang_21", "reference": "1"},
    "/api/peek/{}": {"as_of": "2026-09-02"},
}  # fmt: skip

texts = st.one_of(
    st.text(max_size=30),
    st.sampled_from(["", " ", "\x00", "=1+1", "' OR 1=1 --", "../../etc", "1e999", "-0", "2026-02-30", "9999-12-31"]),
    st.sampled_from(["sma(close, 0)", "close[0]", "__import__('os')", "((((", "lag(close, -1)", "iv30 >", "1 < 2 < 3"]),
)  # fmt: skip
scalars = st.one_of(
    st.none(), st.booleans(), st.integers(-(2**63), 2**63), st.floats(allow_nan=False, allow_infinity=False), texts
)
values = st.recursive(
    scalars,
    lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(st.text(max_size=8), inner, max_size=3)),
    max_leaves=6,
)


def places(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """Every place in a body at which something else could stand."""
    found = [path] if path else []
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, part in inner:
        found += places(part, (*path, key))
    return found


def put(body: dict[str, Any], path: tuple[Any, ...], value: Any) -> dict[str, Any]:
    changed = copy.deepcopy(body)
    part: Any = changed
    for key in path[:-1]:
        part = part[key]
    part[path[-1]] = value
    return changed


def answered_or_refused(reply) -> None:
    assert reply.status_code in (200, 400, 404, 409, 413, 422), reply.text
    if reply.status_code != 200:
        assert reply.json["type"]
        assert len(reply.json["message"]) > 10, "it says what is wrong"
        assert "Traceback" not in reply.text
        assert "sqlalchemy" not in reply.text.lower()


@pytest.mark.parametrize("address", BODIES)
def test_the_body_as_it_stands_is_answered(app: OpenAPI, address: str):
    reply = taken(app.test_client(), address, BODIES[address])
    assert reply.status_code == 200, reply.text


@pytest.mark.parametrize("address", BODIES)
@settings(max_examples=200, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(data=st.data())
def test_anything_at_any_place_of_a_body(app: OpenAPI, address: str, data: st.DataObject):
    path = data.draw(st.sampled_from(places(BODIES[address])), "place")
    body = put(BODIES[address], path, data.draw(values, "value"))
    answered_or_refused(taken(app.test_client(), address, body))


@pytest.mark.parametrize("address", BODIES)
@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(raw=st.one_of(st.binary(max_size=60), values.map(lambda value: json.dumps(value).encode())))
def test_bytes_that_are_no_body(app: OpenAPI, address: str, raw: bytes):
    client = app.test_client()
    reply = client.post(address, data=raw, content_type="application/json")
    if reply.status_code == 202:
        # An empty object asks for a file of everything, for which nobody waits.
        assert client.delete(f"/api/files/{reply.json['id']}").status_code == 200
    else:
        answered_or_refused(reply)


@pytest.mark.parametrize("address", QUERIES)
@settings(max_examples=120, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(data=st.data())
def test_any_text_in_an_address(app: OpenAPI, address: str, data: st.DataObject):
    query, symbol = dict(QUERIES[address]), "KESEO"
    spoilt = data.draw(st.sampled_from(["symbol", *query]), "spoilt")
    text = data.draw(texts, "text")
    if spoilt == "symbol":
        symbol = text
    else:
        query[spoilt] = text
    reply = app.test_client().get(address.format(quote(symbol, safe="")), query_string=query)
    if reply.status_code == 308 or (spoilt == "symbol" and not symbol.strip("/. ")):
        return  # an address that names no symbol is another address
    answered_or_refused(reply)


@pytest.mark.parametrize("address", QUERIES)
def test_each_reading_route_answers_for_a_name_without_options_and_a_halted_one(app: OpenAPI, address: str):
    for symbol in ("FENSO", "GALNU", "PELDU"):
        reply = app.test_client().get(address.format(symbol))
        answered_or_refused(reply)
        assert reply.status_code in (200, 422)
