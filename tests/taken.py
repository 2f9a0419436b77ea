"""A file that is asked for, whenever it is whole."""

from __future__ import annotations

from typing import Any

from flask.testing import FlaskClient
from werkzeug.test import TestResponse


def taken(client: FlaskClient, path: str, body: dict[str, Any], **more: Any) -> TestResponse:
    """The answer once the file is written, or what was refused."""
    answer = client.post(path, json=body, **more)
    while answer.status_code == 202:
        assert 0 <= answer.json["percent"] < 100
        answer = client.get(f"/api/files/{answer.json['id']}", **more)
    return answer
