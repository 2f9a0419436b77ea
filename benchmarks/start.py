"""Starting Flinch on a market that is there already: time to the first answered request, and resident memory.

The reference is the same interpreter importing the web framework and the array libraries and nothing of ours.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path

import psutil

from flinch.store.local_server import free_port
from measure import table

SOURCE = Path(__file__).resolve().parents[1] / "src"


def start(folder: Path) -> tuple[float, float]:
    """Seconds to the first answered request, and megabytes of the web process after some work."""
    port = free_port()
    command = [sys.executable, "-m", "flinch.cli", "demo", "--folder", str(folder), "--port", str(port)]
    began = time.perf_counter()
    process = subprocess.Popen(command, env=os.environ | {"PYTHONPATH": str(SOURCE)}, stdout=subprocess.DEVNULL)
    address = f"http://127.0.0.1:{port}"
    while True:
        try:
            urllib.request.urlopen(f"{address}/api/screen").read()
            break
        except (urllib.error.URLError, ConnectionError):
            time.sleep(0.02)
    took = time.perf_counter() - began
    for symbol in ("TARNO", "BELUA", "KOSVI", "HELMU"):
        for page in ("dossier", "peek"):
            urllib.request.urlopen(f"{address}/api/{page}/{symbol}").read()
    web = [child for child in psutil.Process(process.pid).children() if "mariadbd" not in child.name()]
    memory = max(child.memory_info().rss for child in web) / 1e6
    process.send_signal(signal.SIGINT)
    process.wait()
    return took, memory


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
