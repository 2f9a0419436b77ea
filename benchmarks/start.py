"""Starting Flinch on a market that is there already: time to the first answered request, and resident memory.

The reference is the same interpreter importing the web framework and the array libraries and nothing of ours.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

import psutil

from demo import serve
from measure import table

WARM_UP, REQUESTS = 12, 200


def start(folder: Path, *, work: bool = False) -> tuple[float, float, float]:
    """Seconds to the first answered request, and MB of the serving process after its warm-up and after some work."""
    with serve(folder) as demo:
        web = psutil.Process(demo.process.pid)
        if not work:
            return demo.seconds, 0.0, 0.0
        time.sleep(WARM_UP)
        warm = web.memory_info().rss
        names = [name["symbol"] for name in json.load(urllib.request.urlopen(f"{demo.address}/api/names"))["names"]]
        parts = (
            "peek/",
            "dossier/",
            "dossier/volatility/",
            "dossier/expected-move/",
            "dossier/positioning/",
            "dossier/chain/",
        )
        for n in range(REQUESTS):
            urllib.request.urlopen(f"{demo.address}/api/{parts[n % len(parts)]}{names[n * 7 % len(names)]}").read()
        time.sleep(WARM_UP)
        return demo.seconds, warm / (1 << 20), web.memory_info().rss / (1 << 20)


def main() -> None:
    bare = "import flask, numpy, polars, sqlalchemy.orm, pydantic, flask_openapi3"
    subprocess.run([sys.executable, "-c", bare], check=True)
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", bare], check=True)
    imports = time.perf_counter() - began
    with tempfile.TemporaryDirectory() as folder:
        first = start(Path(folder))[0]
        took = min(start(Path(folder))[0] for _ in range(3))
        _, warm, worked = start(Path(folder), work=True)
    table(
        "A second start",
        [
            ("importing the libraries alone", f"{imports:.1f} s", "1", ""),
            ("start to first answered request", f"{took:.1f} s", f"{took / imports:.1f} ×", "< 4 s"),
            ("the first one, until the first page", f"{first:.0f} s", "", ""),
            ("resident memory of the web process, warm", f"{warm:,.0f} MB", "", "< 550 MB"),
            (f"after {REQUESTS} requests", f"{worked:,.0f} MB", "", "< 550 MB"),
        ],
    )


if __name__ == "__main__":
    main()
