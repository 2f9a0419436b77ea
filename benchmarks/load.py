"""Fifty users' mixed work; beside it a sender who plays foul (half-sent requests, costly rules); and once more with
two thousand own lines, a hundred who wait for evidence, and files that are taken out.

A market that is there already is used when its folder is named: `python benchmarks/load.py FOLDER`.
"""

from __future__ import annotations

import json
import random
import socket
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections import defaultdict
from collections.abc import Callable
from contextlib import nullcontext
from pathlib import Path

import numpy as np
import psutil

from demo import Running, serve
from measure import sized, table

USERS, FOUL, SECONDS = sized(50, 4), sized(8, 2), float(sized(30, 2))
LINES, WAITING, TAKING = sized(2_000, 20), sized(100, 4), sized(4, 1)


class Load:
    """Requests of many users, timed by kind; what was refused or failed is counted."""

    def __init__(self, running: Running) -> None:
        self.running = running
        self.times: dict[str, list[float]] = defaultdict(list)
        self.failed = 0
        self.names = [name["symbol"] for name in json.loads(self.ask("/api/names"))["names"]]

    def ask(self, path: str, body: object = None) -> bytes:
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.running.address + path, data, {"Content-Type": "application/json"})
        with urllib.request.urlopen(request, timeout=60) as answer:
            return bytes(answer.read())

    def timed(self, kind: str, act: Callable[[], object]) -> None:
        began = time.perf_counter()
        try:
            act()
        except OSError:
            self.failed += 1
        self.times[kind].append(time.perf_counter() - began)

    def user(self, seed: int, until: float) -> None:
        rng = random.Random(seed)
        while time.monotonic() < until:
            symbol = rng.choice(self.names)
            rules = [f"iv_rank >= {rng.randint(0, 80)}", f"price >= {rng.randint(5, 50)}", "close > sma(close, 50)"]
            stack = {"universe": "stock", "rules": [{"text": rule} for rule in rules]}
            kinds: list[tuple[str, int, Callable[[], object]]] = [
                ("peek", 45, lambda symbol=symbol: self.ask(f"/api/peek/{symbol}")),
                (
                    "screen",
                    20,
                    lambda stack=stack: self.ask("/api/screen", {"stack": stack, "columns": ["price", "iv30"]}),
                ),
                ("dossier", 8, lambda symbol=symbol: self.ask(f"/api/dossier/{symbol}")),
                ("volatility", 6, lambda symbol=symbol: self.ask(f"/api/dossier/volatility/{symbol}")),
                ("chain", 6, lambda symbol=symbol: self.ask(f"/api/dossier/chain/{symbol}")),
                ("positioning", 5, lambda symbol=symbol: self.ask(f"/api/dossier/positioning/{symbol}")),
                ("tray", 10, lambda: self.ask("/api/tray")),
            ]
            kind, _, act = rng.choices(kinds, [weight for _, weight, _ in kinds])[0]
            self.timed(kind, act)
            time.sleep(rng.uniform(0.5, 3.0))

    def half_sent(self, until: float) -> None:
        host, port = self.running.address.removeprefix("http://").split(":")
        while time.monotonic() < until:
            with socket.create_connection((host, int(port))) as wire:
                wire.sendall(b"POST /api/screen HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 500\r\n\r\n{")
                time.sleep(3)

    def costly(self, seed: int, until: float) -> None:
        rng = random.Random(seed)
        while time.monotonic() < until:
            parts = [f"median(close + {rng.random():.6f}, {240 + n})" for n in range(10)]
            body = {"stack": {"rules": [{"text": " + ".join(parts) + " > 0"}]}, "columns": []}
            try:
                self.ask("/api/screen", body)
            except urllib.error.HTTPError:
                time.sleep(0.05)

    def draw_lines(self) -> None:
        rng = random.Random(1)
        for _ in range(LINES):
            self.ask("/api/lines", {"symbol": rng.choice(self.names), "price": round(rng.uniform(5, 300), 2)})

    def wait_for_evidence(self, until: float) -> None:
        """As a page does: asks again half a second after the last time, at the earliest."""
        rng = random.Random()
        while time.monotonic() < until:
            stack = {"universe": "stock", "rules": [{"text": f"iv_rank >= {rng.randint(0, 90)} + {rng.random():.4f}"}]}
            try:
                job = json.loads(self.ask("/api/screen/evidence", {"stack": stack}))
                while job["evidence"] is None and time.monotonic() < until:
                    time.sleep(0.5)
                    job = json.loads(self.ask(f"/api/screen/evidence/{job['id']}"))
            except urllib.error.HTTPError:
                # Twenty wait at most: who is refused comes again.
                time.sleep(2)

    def take_out(self, until: float) -> None:
        columns = ["price", "iv30", "hv21", "iv_rank", "iv_percentile", "market_cap", "avg_volume_50", "one_day_move"]
        asked: list[tuple[str, dict[str, object]]] = [
            ("/api/screen/export", {"stack": {"universe": "all"}, "columns": columns, "format": "xlsx", "name": "all"}),
            ("/api/tape/export", {"stack": {"universe": "all"}, "format": "xlsx", "name": "tape", "view": "tickets"}),
        ]
        while time.monotonic() < until:
            for path, body in asked:
                try:
                    data = self.ask(path, body)
                    while data[:1] == b"{" and time.monotonic() < until:
                        time.sleep(0.5)
                        data = self.ask(f"/api/files/{json.loads(data)['id']}")
                except urllib.error.HTTPError:
                    time.sleep(2)


def main() -> None:
    named = nullcontext(sys.argv[1]) if len(sys.argv) > 1 else tempfile.TemporaryDirectory()
    with named as folder, serve(Path(folder)) as running:
        load = Load(running)
        time.sleep(sized(12, 1))
        process = psutil.Process(running.process.pid)
        warm = process.memory_info().rss
        for foul, crowded in ((False, False), (True, False), (True, True)):
            if crowded:
                load.draw_lines()
            load.times.clear()
            load.failed = 0
            until = time.monotonic() + SECONDS
            threads = [threading.Thread(target=load.user, args=(n, until)) for n in range(USERS)]
            if foul:
                threads += [threading.Thread(target=load.half_sent, args=(until,)) for _ in range(FOUL)]
                threads += [threading.Thread(target=load.costly, args=(n, until)) for n in range(FOUL)]
            if crowded:
                threads += [threading.Thread(target=load.wait_for_evidence, args=(until,)) for _ in range(WAITING)]
                threads += [threading.Thread(target=load.take_out, args=(until,)) for _ in range(TAKING)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            rows = [
                (
                    kind,
                    f"{1e3 * np.median(took):.0f} ms",
                    f"{1e3 * np.percentile(took, 95):.0f} ms",
                    "< 300 ms" if kind == "peek" else "",
                )
                for kind, took in sorted(load.times.items())
            ]
            rows.append(("refused or failed", str(load.failed), "", "0"))
            rows.append(("memory", f"{process.memory_info().rss >> 20} MB", f"{warm >> 20} MB when warm", "< 550 MB"))
            rows.append(("threads", str(process.num_threads()), "", ""))
            beside = ", beside a foul sender" if foul else ""
            beside += f", with {LINES:,} lines, {WAITING} who wait for evidence, {TAKING} who take files out" * crowded
            table(f"{USERS} users for {SECONDS:.0f} s{beside}: median and 95th percentile", rows)


if __name__ == "__main__":
    main()
