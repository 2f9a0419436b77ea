"""The demo served as users start it, for as long as something is measured."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from measure import free_port

SOURCE = Path(__file__).resolve().parents[1] / "src"


class Running(NamedTuple):
    """Its address, its process, and how long it took to the first answered request."""

    address: str
    process: subprocess.Popen[bytes]
    seconds: float


def ask(address: str, path: str, body: object = None, method: str | None = None) -> Any:
    """The JSON that is answered to a question, with a body as JSON where there is one."""
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(address + path, data, {"Content-Type": "application/json"}, method=method)
    with urllib.request.urlopen(request, timeout=60) as answer:
        return json.load(answer)


@contextlib.contextmanager
def serve(folder: Path) -> Iterator[Running]:
    """Start the demo in `folder`, which keeps its market for the next start; it is stopped in order."""
    port = free_port()
    command = [sys.executable, "-m", "flinch.cli", "demo", "--folder", str(folder), "--port", str(port)]
    began = time.perf_counter()
    process = subprocess.Popen(command, env=os.environ | {"PYTHONPATH": str(SOURCE)}, stdout=subprocess.DEVNULL)
    address = f"http://127.0.0.1:{port}"
    try:
        while True:
            try:
                urllib.request.urlopen(f"{address}/api/names").read()
                break
            except (urllib.error.URLError, ConnectionError):
                time.sleep(0.02)
        took = time.perf_counter() - began
        # A new market is whole a while after its first page.
        while json.loads(urllib.request.urlopen(f"{address}/api/market").read())["coming"] is not None:
            time.sleep(1)
        yield Running(address, process, took)
    finally:
        process.send_signal(signal.SIGINT)
        process.wait()
