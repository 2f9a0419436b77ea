"""How answers go out: compressed where it pays, and the same when they are read."""

from __future__ import annotations

import gzip
import json

import pytest
from flask.testing import FlaskClient
from tests.taken import taken

BODY = {"stack": {"universe": "all", "rules": []}, "columns": ["price", "iv30", "hv21", "sector"]}


@pytest.mark.parametrize("kind", ["gzip", "br", "zstd"])
def test_a_large_answer_goes_out_compressed_and_says_how(client: FlaskClient, kind: str):
    plain = client.post("/api/screen", json=BODY)
    answer = client.post("/api/screen", json=BODY, headers={"Accept-Encoding": kind})
    assert "Content-Encoding" not in plain.headers
    assert answer.headers["Content-Encoding"] == kind
    assert "Accept-Encoding" in answer.headers["Vary"]
    assert len(answer.data) < 0.5 * len(plain.data)
    if kind == "gzip":
        assert json.loads(gzip.decompress(answer.data)) == plain.json


def test_a_small_answer_and_what_is_compressed_already_stay_as_they_are(client: FlaskClient):
    accept = {"Accept-Encoding": "gzip"}
    assert "Content-Encoding" not in client.get("/api/tray", headers=accept).headers
    file = taken(client, "/api/screen/export", BODY | {"format": "xlsx", "name": "all"}, headers=accept)
    assert file.status_code == 200
    assert "Content-Encoding" not in file.headers


def test_the_first_script_goes_out_compressed_and_is_not_asked_for_again(client: FlaskClient):
    page = client.get("/").text
    script = page.split('src="')[1].split('"')[0]
    answer = client.get(script, headers={"Accept-Encoding": "gzip"})
    assert answer.headers["Content-Encoding"] == "gzip"
    assert "max-age=31536000" in answer.headers["Cache-Control"]
    assert gzip.decompress(answer.data) == client.get(script).data


def test_a_change_sent_again_is_answered_the_same_whichever_way_it_is_read(client: FlaskClient):
    """What is kept of an answer is not the compressed form of it."""
    symbols = [name["symbol"] for name in client.get("/api/names").json["names"][:30]]
    change = {"json": {"symbols": symbols, "why": {"page": "Screen", "words": "the first thirty", "values": {}}}}
    first = client.post("/api/tray", **change, headers={"Idempotency-Key": "compressed-1", "Accept-Encoding": "gzip"})
    assert first.headers["Content-Encoding"] == "gzip"
    again = client.post("/api/tray", **change, headers={"Idempotency-Key": "compressed-1"})
    assert again.headers["Idempotent-Replayed"] == "true"
    assert again.json == json.loads(gzip.decompress(first.data))
