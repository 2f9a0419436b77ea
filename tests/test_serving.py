"""The web server by itself: what it does with requests that other servers trip over."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator

import pytest
from tests.demo_process import free_port
from tests.waiting import PATIENCE

from flinch.serving import make_server


@pytest.fixture(scope="module")
def port() -> Iterator[int]:
    def application(environ, start_response):
        body = environ["wsgi.input"].read()
        start_response("200 OK", [("Content-Length", str(len(body) + 3))])
        return [b"got", body]

    chosen = free_port()
    web = make_server(application, "127.0.0.1", chosen)
    running = threading.Thread(target=web.run, daemon=True)
    running.start()
    yield chosen
    web.close()


@pytest.mark.parametrize(
    ("head", "body", "told"),
    [
        ("GET / HTTP/1.1\r\nHost: a\r\nExpect: 100-continue", b"", [b"got"]),
        ("DELETE / HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\nExpect: 100-continue", b"", [b"got"]),
        ("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\nExpect: 100-continue", b"ab", [b"100 Continue", b"gotab"]),
    ],
)
def test_who_expects_to_be_told_to_go_on_is_answered(port: int, head: str, body: bytes, told: list[bytes]):
    with socket.create_connection(("127.0.0.1", port), timeout=PATIENCE) as connection:
        connection.sendall(f"{head}\r\nConnection: close\r\n\r\n".encode())
        answer = b""
        if body:
            answer += connection.recv(100)
            connection.sendall(body)
        while piece := connection.recv(1_000):
            answer += piece
    assert [part for part in (b"100 Continue", b"gotab", b"got") if part in answer][: len(told)] == told
    assert (b"100 Continue" in answer) == bool(body)
