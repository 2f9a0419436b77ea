"""The demo market running: how long a moment takes from being written until whoever listens is told, and until nine rules are
answered from it; how many times as fast as the clock it can run; what the processes take and hold.

The reference is an idle request of the same server. A market that is there already is used when its folder is named:
`python benchmarks/live.py FOLDER`; it is moved on.
"""

from __future__ import annotations

import json
import sys
import tempfile
import threading
import time
import urllib.request
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import numpy as np
import psutil

from demo import Running, ask, serve
from flinch.reach import reached
from flinch.store.databases import DEMO
from flinch.store.engine import make_engine
from flinch.store.market.state import read_state
from hand import COLUMNS, RULES
from measure import sized, table

PATIENCE = 600
"""Seconds after which what was waited for is taken never to come."""
MOMENTS, FAST = sized(10, 2), sized(12, 3)


class Listening:
    """A listener that notes when it was told of each version."""

    def __init__(self, running: Running) -> None:
        self.told: dict[int, float] = {}
        self._stream = urllib.request.urlopen(f"{running.address}/api/live?market={DEMO}")
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        kind = b""
        for line in self._stream:
            if line.startswith(b"event: "):
                kind = line[7:].strip()
            elif line.startswith(b"data: ") and kind == b"moment":
                self.told.setdefault(json.loads(line[6:])["version"], time.perf_counter())


def processes(running: Running) -> list[psutil.Process]:
    web = psutil.Process(running.process.pid)
    return [web, *web.children(recursive=True)]


def spent(running: Running) -> float:
    """Processor seconds of all processes of the start command."""
    return sum(one.cpu_times().user + one.cpu_times().system for one in processes(running) if one.is_running())


def main(folder: Path) -> None:
    with serve(folder) as running, reached(folder) as databases:
        engine = make_engine(databases.market_url(DEMO))
        listening = Listening(running)
        stack = {"universe": "stock", "rules": [{"text": rule.format(edge=20)} for rule in RULES]}
        body = {"stack": stack, "columns": COLUMNS}
        for _ in range(5):
            ask(running.address, "/api/screen", body)
        idle = []
        for _ in range(20):
            began = time.perf_counter()
            ask(running.address, "/api/markets/chosen")
            idle.append(time.perf_counter() - began)

        # Of the market's first session a quarter of an hour is left.
        if MOMENTS + FAST > 12:
            ask(running.address, "/api/run", {"to": "open"}, "PUT")
            while ask(running.address, "/api/run")["until"] is not None:
                time.sleep(1)
        ask(running.address, "/api/run", {"speed": 10}, "PUT")
        written: dict[int, float] = {}
        answered: dict[int, float] = {}
        known = version(engine)
        began, before = time.perf_counter(), None
        while len(answered) < MOMENTS + 1:
            now = version(engine)
            if now != known:
                known = now
                written[now] = time.perf_counter()
                if before is None:
                    began, before = time.perf_counter(), spent(running)
            newest = max((one for one in listening.told if one in written), default=None)
            if newest is not None and newest not in answered:
                ask(running.address, "/api/screen", body)
                answered[newest] = time.perf_counter()
            assert time.perf_counter() - began < PATIENCE, "no listener is told of what is written"
            time.sleep(0.005)
        share = (spent(running) - (before or 0.0)) / (time.perf_counter() - began)
        told = np.array([listening.told[one] - at for one, at in written.items() if one in listening.told])
        shown = np.array([answered[one] - at for one, at in written.items() if one in answered])

        ask(running.address, "/api/run", {"speed": 60}, "PUT")
        first, at = version(engine), time.perf_counter()
        while version(engine) < first + FAST:
            time.sleep(0.02)
        fast = 60 * FAST / (time.perf_counter() - at)
        ask(running.address, "/api/run", {"speed": 0}, "PUT")
        held = psutil.Process(running.process.pid).memory_full_info().uss / 1e6
        engine.dispose()
    plain = float(np.median(idle))
    table(
        f"the demo running: {len(told)} moments at 10 times, {FAST} at 60 times",
        [
            ("an idle request", f"{1e3 * plain:.1f} ms", "1", ""),
            ("written until told, median", f"{np.median(told):.2f} s", f"{np.median(told) / plain:.0f}", ""),
            ("written until nine rules answer from it, median", f"{np.median(shown):.2f} s", "", "< 1 s"),
            ("the same, worst", f"{shown.max():.2f} s", "", "< 3 s"),
            ("processor at 10 times, of one core", f"{100 * share:.0f} %", "", "< 25 % at 1 time"),
            ("asked for 60 times, it ran", f"{fast:.0f} times", "", "60 times"),
            ("web process, of its own, after it", f"{held:.0f} MB", "", ""),
        ],
    )


def version(engine: Any) -> int:
    state = read_state(engine)
    assert state is not None
    return state.data_version


if __name__ == "__main__":
    place = nullcontext(sys.argv[1]) if len(sys.argv) > 1 else tempfile.TemporaryDirectory(prefix="flinch-live-")
    with place as name:
        main(Path(name))
