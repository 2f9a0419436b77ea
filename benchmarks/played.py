"""A session played again: how long a minute on takes until a page of it is answered, and what the session's first minute takes.

The reference is the same question of the newest session, which is in memory. A market that is there already is used when its
folder is named: `python benchmarks/played.py FOLDER`.
"""

from __future__ import annotations

import sys
import tempfile
import time
import urllib.error
from contextlib import nullcontext
from pathlib import Path

import numpy as np

from demo import Running, ask, serve
from hand import COLUMNS, RULES
from measure import sized, table

SESSION = "2026-09-08"
MINUTES = sized(10, 2)
EVERYBODY = {"universe": "all", "rules": []}
PAGES: dict[str, tuple[str, dict[str, object]]] = {
    "nine rules": (
        "/api/screen",
        {"stack": {"universe": "all", "rules": [{"text": r.format(edge=5)} for r in RULES]}, "columns": COLUMNS},
    ),
    "the tape by name": ("/api/tape", {"stack": EVERYBODY, "view": "names"}),
    "off-exchange": ("/api/off-exchange", {"stack": EVERYBODY}),
}


def answered(running: Running, path: str, body: dict[str, object]) -> float:
    """Seconds until a question is answered; one that is told to come again does so at once."""
    began = time.perf_counter()
    while True:
        try:
            ask(running.address, path, body)
            return time.perf_counter() - began
        except urllib.error.HTTPError as error:
            if error.code != 503:
                raise
            time.sleep(0.05)


def main() -> None:
    rows: list[tuple[str, str, str, str]] = []
    place = nullcontext(sys.argv[1]) if len(sys.argv) > 1 else tempfile.TemporaryDirectory(prefix="flinch-benchmark-")
    with place as folder, serve(Path(folder)) as running:
        for name, (path, body) in PAGES.items():
            answered(running, path, body)
            newest = float(np.median([answered(running, path, body) for _ in range(MINUTES)]))
            hour = 11 + list(PAGES).index(name)
            first = answered(running, path, body | {"as_of": f"{SESSION}T{hour}:00"})
            further = [
                answered(running, path, body | {"as_of": f"{SESSION}T{hour}:{minute + 1:02}"})
                for minute in range(MINUTES)
            ]
            minute = float(np.median(further))
            wanted = "< 6 s: 10 times as fast"
            rows += [
                (f"{name}: the newest session", f"{newest:.2f} s", "1", ""),
                (f"{name}: a session's first minute", f"{first:.1f} s", f"{first / newest:.0f}", ""),
                (f"{name}: a minute on", f"{minute:.2f} s", f"{minute / newest:.0f}", wanted),
            ]
    table("A session played again", rows)


if __name__ == "__main__":
    main()
