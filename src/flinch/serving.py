"""The web server: one process; a worker is taken only when a request has been read whole, and none by an answer that goes on."""

from __future__ import annotations

import logging
import resource
import socket
import threading
from collections.abc import Callable
from typing import Any

from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import create_server
from waitress.task import WSGITask

THREADS = 32
"""Workers. Most wait for the database or for their turn in the lane of costly work; two cores compute."""
_IDLE_SECONDS = 30
_CONNECTIONS = 900
_FILES = 4_096
"""Connections, those who listen, and what is read from the disk: more than a login is usually given."""
STAY = "flinch.stay"
"""Key of a request's environment: a function that is given what takes a `Stream`. The answer's body is then only its beginning;
when it has gone out the worker is free, and whoever has the stream goes on."""
_MOST_WAITING = 64 << 10
"""Bytes that may wait for a listener who does not read; then it is cut off."""


def make_server(app: Any, host: str, port: int) -> Any:
    """A server of a WSGI application on `host`, and on the same port of IPv6's loopback where the machine has it.

    Half-sent requests wait in the server's own loop, bounded in number and time, and take no worker. Call `run` and `close`.
    """
    # How many requests wait for a worker is nobody's business on a terminal.
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    _allow_files(_FILES)
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


class Stream:
    """An answer that goes on: its connection, taken from the server's loop. Any thread may tell it more; the connection ends
    with it."""

    def __init__(self, wire: socket.socket, *, chunked: bool) -> None:
        self._wire, self._chunked = wire, chunked
        self._waiting = bytearray()
        self._ended = False
        self._lock = threading.Lock()

    def tell(self, more: bytes) -> bool:
        """Send more; False when nobody listens any more. Never waits: a listener who does not read is cut off."""
        with self._lock:
            if not self._listened_to() or len(self._waiting) > _MOST_WAITING:
                self._end()
                return False
            self._waiting += b"%X\r\n%b\r\n" % (len(more), more) if self._chunked else more
            self._send()
            return not self._ended

    def go_on(self) -> None:
        """Send what could not be sent at once."""
        with self._lock:
            if self._waiting:
                self._send()

    def end(self) -> None:
        """Close the connection."""
        with self._lock:
            self._end()

    def _listened_to(self) -> bool:
        if self._ended:
            return False
        try:
            # Nothing more is asked on this connection: there is nothing to read, or it is over.
            self._wire.recv(1)
        except BlockingIOError:
            return True
        except OSError:
            pass
        return False

    def _send(self) -> None:
        try:
            del self._waiting[: self._wire.send(self._waiting)]
        except BlockingIOError:
            pass
        except OSError:
            self._end()

    def _end(self) -> None:
        self._ended = True
        self._waiting.clear()
        self._wire.close()


class _Task(WSGITask):
    """A request's work; where the application says that its answer stays, the end of it is left to a `Stream`."""

    _take: Callable[[Stream], None] | None = None

    def get_environment(self) -> dict[str, Any]:
        environ: dict[str, Any] = super().get_environment()  # type: ignore[no-untyped-call]
        environ[STAY] = self._stay
        return environ

    def _stay(self, take: Callable[[Stream], None]) -> None:
        self._take = take

    def write(self, data: bytes) -> None:
        if self._take is not None and not self.wrote_header:
            # What is there now is not all that comes.
            self.remove_content_length_header()  # type: ignore[no-untyped-call]
            self.content_length = None
        super().write(data)  # type: ignore[no-untyped-call]

    def finish(self) -> None:
        if self._take is None or not self.wrote_header or not self.has_body:
            super().finish()  # type: ignore[no-untyped-call]
            return
        self.close_on_finish = False
        self.channel.stays = self._take, bool(self.chunked_response)


class _Channel(HTTPChannel):
    parser_class = _Parser
    task_class = _Task
    stays: tuple[Callable[[Stream], None], bool] | None = None
    """Who takes the connection when the beginning of the answer has gone out, and whether it is sent in chunks."""

    def received(self, data: bytes) -> bool:
        if self.stays is not None:
            # A listener has nothing more to ask on this connection.
            self.will_close = True
            return False
        more: bool = super().received(data)  # type: ignore[no-untyped-call]
        return more

    def readable(self) -> bool:
        if self.stays is None or self.requests or self.total_outbufs_len or self.will_close or not self.connected:
            yes: bool = super().readable()  # type: ignore[no-untyped-call]
            return yes
        # Here, because only the loop itself may take a connection out of it.
        take, chunked = self.stays
        self.del_channel()  # type: ignore[no-untyped-call]
        self.connected = False
        wire = self.socket
        assert wire is not None
        take(Stream(wire, chunked=chunked))
        return False


def _allow_files(wanted: int) -> None:
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft < wanted:
        most = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))


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
