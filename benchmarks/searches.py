"""Structures over HTTP as a page asks for them: searches of a tray, an edge moved on what they found, one structure redrawn.

A folder with the demo's database can be given; otherwise the market is made first.
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path

import numpy as np
import psutil

from demo import Running, serve
from measure import sized, table

NAMES, SEARCHES, EDGES, REDRAWN = sized(40, 4), sized(25, 2), sized(60, 4), sized(80, 4)
KINDS = ["put_credit", "call_credit", "call_debit", "put_debit", "iron_condor", "iron_butterfly"]
COLUMNS = ["dte", "cost", "max_profit", "max_loss", "return_on_capital", "edge_market", "edge_past", "edge_forecast"]
RULES = ["chance_of_profit_past", "return_on_capital", "edge_forecast", "disagreement", "min_leg_open_interest"]


class Asked:
    """Requests to a running Flinch, one after the other."""

    def __init__(self, running: Running) -> None:
        self.address = running.address
        self.process = psutil.Process(running.process.pid)

    def post(self, path: str, body: object) -> tuple[float, dict]:
        data = json.dumps(body).encode()
        request = urllib.request.Request(self.address + path, data, {"Content-Type": "application/json"})
        while True:
            began = time.perf_counter()
            try:
                with urllib.request.urlopen(request, timeout=60) as answer:
                    said = answer.read()
            except urllib.error.HTTPError as error:
                # As a page does: what is being read is asked for again.
                if error.code != 503:
                    raise
                time.sleep(1)
            else:
                return time.perf_counter() - began, json.loads(said)

    def peak(self) -> int:
        """Most memory since it was last forgotten, bytes."""
        status = Path(f"/proc/{self.process.pid}/status").read_text()
        return 1024 * int(status.split("VmHWM:")[1].split()[0])

    def forget_peak(self) -> None:
        Path(f"/proc/{self.process.pid}/clear_refs").write_text("5")


def search(entry: float, **more: object) -> dict:
    return {
        "stack": {"universe": "tray", "rules": [{"text": rule} for rule in RULES]},
        "search": {"kinds": KINDS, "most_width": 10, "entry": entry} | more,
        "columns": COLUMNS,
        "count": 200,
    }


def largest(asked: Asked) -> tuple[str, str, str, str]:
    """The largest search of all names that is not refused, of some: what it takes."""
    told = ("", "", "", "")
    for width in (1, 2, 2.5, 3, 4, 5, 7.5, 10, 15)[: sized(9, 1)]:
        body = search(0.21, most_width=width, most_days=45)
        body["stack"] = {"universe": "all", "rules": []}
        asked.forget_peak()
        before = asked.process.memory_info().rss
        try:
            took, found = asked.post("/api/structures", body)
        except urllib.error.HTTPError:
            break
        words = f"the largest, {found['universe']:,} structures of {found['names']} names: memory it adds at its peak"
        told = (words, f"{(asked.peak() - before) >> 20} MB", f"in {took:.1f} s", "< 600 MB")
    return told


def measure(asked: Asked) -> None:
    _, screened = asked.post(
        "/api/screen",
        {
            "stack": {"universe": "all", "rules": [{"text": "avg_option_volume_21 > 0"}]},
            "sort": ["-avg_option_volume_21"],
        },
    )
    names = screened["symbols"][:NAMES]
    asked.post(
        "/api/tray", {"symbols": names, "why": {"page": "screen", "words": "benchmark", "link": "/", "values": {}}}
    )
    asked.post("/api/structures", search(0.2))
    asked.forget_peak()
    before = asked.process.memory_info().rss
    searched, found = [], {}
    for entry in np.linspace(0.25, 0.45, SEARCHES).tolist():
        took, found = asked.post("/api/structures", search(entry))
        searched.append(took)
    peak = asked.peak() - before
    edges = []
    for edge in np.linspace(30, 75, EDGES).tolist():
        body = search(0.45)
        body["stack"]["rules"][0] = {"text": f"chance_of_profit_past >= {edge:.2f}"}
        edges.append(asked.post("/api/structures", body)[0])
    fronts = []
    for edge in np.linspace(30.3, 75.3, EDGES // 2).tolist():
        body = search(0.45) | {"points": True, "front_only": True}
        body["stack"]["rules"][0] = {"text": f"chance_of_profit_past >= {edge:.2f}"}
        fronts.append(asked.post("/api/structures", body)[0])
    redrawn = []
    for place, row in enumerate((found["rows"] * 4)[:REDRAWN]):
        symbol, legs = row["key"].split(" ", 1)
        body = {"symbol": symbol, "legs": legs, "ahead": 3 + 0.1 * place}
        if place < 12:
            asked.post("/api/structures/one", body | {"ahead": 1})
        redrawn.append(asked.post("/api/structures/one", body)[0])
    rows = [
        (
            f"search of {len(names)} names, {len(KINDS)} kinds, {found['universe']:,} structures",
            searched,
            "p95 < 1,500 ms",
        ),
        ("an edge moved on its results", edges, "< 100 ms"),
        ("an edge moved with the front shown", fronts, "< 100 ms"),
        ("one structure redrawn", redrawn, "< 50 ms"),
    ]
    told = [
        (what, f"{1e3 * np.median(took):.0f} ms", f"{1e3 * np.percentile(took, 95):.0f} ms", wanted)
        for what, took, wanted in rows
    ]
    told.append(("memory that these searches add at their peak", f"{peak >> 20} MB", "", "< 600 MB"))
    told.append(largest(asked))
    table("structures over HTTP: median and 95th percentile", told)


def main() -> None:
    with tempfile.TemporaryDirectory() as made, serve(Path(sys.argv[1] if sys.argv[1:] else made)) as running:
        time.sleep(sized(15, 1))
        measure(Asked(running))


if __name__ == "__main__":
    main()
