"""Starting Flinch on a market that is there already: time to the first answered request, and resident memory.

The reference is the same interpreter importing the web framework and the array libraries and nothing of ours.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

import psutil

from demo import serve
from measure import table


def start(folder: Path) -> tuple[float, float]:
    """Seconds to the first answered request, and megabytes of the web process after some work."""
    with serve(folder) as demo:
        for symbol in ("TARNO", "BELUA", "KOSVI", "HELMU"):
            for page in ("dossier", "peek"):
                urllib.request.urlopen(f"{demo.address}/api/{page}/{symbol}").read()
        urllib.request.urlopen(f"{demo.address}/api/dossier/over-time/TARNO?expression=iv_hv_ratio_percentile").read()
        web = [child for child in psutil.Process(demo.process.pid).children() if "mariadbd" not in child.name()]
        return demo.seconds, max(child.memory_info().rss for child in web) / 1e6


def main() -> None:
    bare = "import flask, numpy, polars, sqlalchemy.orm, pydantic, flask_openapi3"
    subprocess.run([sys.executable, "-c", bare], check=True)
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", bare], check=True)
    imports = time.perf_counter() - began
    with tempfile.TemporaryDirectory() as folder:
        start(Path(folder))
        runs = [start(Path(folder)) for _ in range(3)]
    took, memory = min(run[0] for run in runs), max(run[1] for run in runs)
    table(
        "A second start",
        [
            ("importing the libraries alone", f"{imports:.1f} s", "1", ""),
            ("start to first answered request", f"{took:.1f} s", f"{took / imports:.1f} ×", "< 8 s"),
            ("resident memory of the web process", f"{memory:,.0f} MB", "", "< 600 MB"),
        ],
    )


if __name__ == "__main__":
    main()
