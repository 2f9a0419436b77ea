"""The web server: one process, and a worker is taken only when a request has been read whole."""

from __future__ import annotations

import logging
import socket
from typing import Any

from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import create_server

THREADS = 32
"""Workers. Most wait for the database or for their turn in the lane of costly work; two cores compute."""
_IDLE_SECONDS = 30
_CONNECTIONS = 900


def make_server(app: Any, host: str, port: int) -> Any:
    """A server of a WSGI application on `host`, and on the same port of IPv6's loopback where the machine has it.

    Half-sent requests wait in the server's own loop, bounded in number and time, and take no worker. Call `run` and `close`.
    """
    # How many requests wait for a worker is nobody's business on a terminal.
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    listen = [f"{host}:{port}"]
    if _has_ipv6_loopback(port):
        listen.append(f"[::1]:{port}")
    server = create_server(  # type: ignore[no-untyped-call]
        app,
        listen=" ".join(listen),
        threads=THREADS,
        connection_limit=_CONNECTIONS,
        channel_timeout=_IDLE_SECONDS,
        cleanup_interval=5,
        backlog=512,
        asyncore_use_poll=True,
        max_request_header_size=32_768,
        max_request_body_size=1 << 20,
        # Whether the caller is still there is seen while its request is worked on.
        channel_request_lookahead=1,
        ident=None,
        clear_untrusted_proxy_headers=True,
    )
    # One for each address, and what wakes them up.
    for one in [*getattr(server, "map", {}).values(), server]:
        if hasattr(one, "channel_class"):
            one.channel_class = _Channel
    return server


class _Parser(HTTPRequestParser):
    """Whoever expects to be told to go on, and has nothing to send, would wait for ever: the server would wait for it."""

    def parse_header(self, header_plus: bytes) -> None:
        super().parse_header(header_plus)  # type: ignore[no-untyped-call]
        if not self.chunked and not self.content_length:
            self.expect_continue = False


class _Channel(HTTPChannel):
    parser_class = _Parser


def _has_ipv6_loopback(port: int) -> bool:
    if not socket.has_ipv6:
        return False
    try:
        with socket.socket(socket.AF_INET6) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            probe.bind(("::1", port))
    except OSError:
        return False
    return True
