"""Asking for what takes a while."""

from __future__ import annotations

from typing import Any

from flask.testing import FlaskClient
from werkzeug.test import TestResponse


def ask_evidence(client: FlaskClient, body: dict[str, Any]) -> TestResponse:
    """The answer once the evidence is there, or the refusal."""
    answer = client.post("/api/screen/evidence", json=body)
    while answer.status_code == 200 and answer.json["evidence"] is None:
        answer = client.get(f"/api/screen/evidence/{answer.json['id']}")
    return answer
