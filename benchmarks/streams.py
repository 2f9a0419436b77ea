"""Five hundred pages that listen to a market beside the mixed work of fifty users: what a stream holds, and what a peek takes.

The reference is the same work with nobody listening. A market that is there already is used when its folder is named:
`python benchmarks/streams.py FOLDER`.
"""

from __future__ import annotations

import contextlib
import socket
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import nullcontext
from pathlib import Path

import numpy as np
import psutil

from demo import Running, serve
from load import USERS, Load
from measure import sized, table

STREAMS, SECONDS = sized(500, 8), float(sized(30, 2))


@contextlib.contextmanager
def listening(running: Running, count: int) -> Iterator[None]:
    """So many streams, each of which was told of the first moment."""
    host, port = running.address.removeprefix("http://").split(":")
    ask = f"GET /api/live?market=demo HTTP/1.1\r\nHost: {host}:{port}\r\n\r\n".encode()
    with contextlib.ExitStack() as open_:
        for _ in range(count):
            wire = open_.enter_context(socket.create_connection((host, int(port)), timeout=60))
            wire.sendall(ask)
            came = b""
            while b"event: moment" not in came:
                piece = wire.recv(4_000)
                if not piece:
                    raise RuntimeError(f"a stream ended: {came!r}")
                came += piece
        yield


def held(running: Running) -> float:
    return float(psutil.Process(running.process.pid).memory_full_info().uss)


def peeks(running: Running) -> tuple[float, float]:
    """Median and 95th percentile of a peek within the mixed work, in milliseconds."""
    load = Load(running)
    until = time.monotonic() + SECONDS
    users = [threading.Thread(target=load.user, args=(seed, until)) for seed in range(USERS)]
    for user in users:
        user.start()
    for user in users:
        user.join()
    if load.failed:
        raise RuntimeError(f"{load.failed} requests failed")
    return float(np.median(load.times["peek"]) * 1e3), float(np.percentile(load.times["peek"], 95) * 1e3)


def main(folder: Path) -> None:
    with serve(folder) as running:
        # What is read and compiled for the first one is so for all that follow.
        peeks(running)
        alone = peeks(running)
        with listening(running, STREAMS // 10):
            before = held(running)
        with listening(running, STREAMS):
            each = (held(running) - before) / (STREAMS - STREAMS // 10) / 1e3
            beside = peeks(running)
    rows = [
        ("an idle stream holds", f"{max(each, 0.0):.0f} kB", "", "< 60 kB"),
        (f"peek beside {USERS} users, nobody listens: median", f"{alone[0]:.0f} ms", "1.0", ""),
        ("the same, 95th percentile", f"{alone[1]:.0f} ms", "1.0", ""),
        (f"beside {STREAMS} streams: median", f"{beside[0]:.0f} ms", f"{beside[0] / alone[0]:.2f}", ""),
        ("the same, 95th percentile", f"{beside[1]:.0f} ms", f"{beside[1] / alone[1]:.2f}", "< 300 ms"),
    ]
    table("streams of events", rows)


if __name__ == "__main__":
    place = nullcontext(sys.argv[1]) if len(sys.argv) > 1 else tempfile.TemporaryDirectory(prefix="flinch-streams-")
    with place as name:
        main(Path(name))
