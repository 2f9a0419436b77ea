"""Asking for structures over HTTP."""

from __future__ import annotations

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.market import View


@pytest.fixture
def symbols(market: View) -> list[str]:
    """Some names whose options are traded much."""
    volume = np.where(market.optionable() & (market.frame.kind == "stock"), market.metric("avg_option_volume_21"), -1)
    return [market.name(int(row)).symbol for row in np.argsort(-volume)[:4]]


@pytest.fixture
def look(client: FlaskClient):
    def ask(*rules: str, universe: str, status: int = 200, search: dict | None = None, **more):
        body = {
            "stack": {"universe": universe, "rules": [{"text": rule} for rule in rules]},
            "search": search or {},
            **more,
        }
        answer = client.post("/api/structures", json=body)
        assert answer.status_code == status, answer.text
        return answer.json

    return ask


@pytest.fixture
def one(client: FlaskClient):
    def ask(symbol: str, legs: str, status: int = 200, **more):
        answer = client.post("/api/structures/one", json={"symbol": symbol, "legs": legs, **more})
        assert answer.status_code == status, answer.text
        return answer.json

    return ask
