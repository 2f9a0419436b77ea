"""The start command: a killed start is repaired, a second start finds the market, Ctrl-C stops everything and nothing else."""

from __future__ import annotations

import json
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from pathlib import Path

import polars as pl
import pytest
from flask.testing import FlaskClient

from flinch.feeds.simulated.calendar import AS_OF
from flinch.store.bulk import replace_rows
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer, free_port
from flinch.store.market_state import begin_load
from flinch.store.migrate import migrate
from flinch.store.models import Name

PROJECT = Path(__file__).resolve().parents[1]
PATIENCE = 480


class Demo:
    """`scripts/demo` without the installing part, on a folder of its own."""

    def __init__(self, folder: Path, port: int, *more: str) -> None:
        self.port = port
        self.said = ""
        command = [sys.executable, "-m", "flinch.cli", "demo", "--folder", str(folder), "--port", str(port), *more]
        environment = os.environ | {"PYTHONPATH": str(PROJECT / "src"), "PYTHONUNBUFFERED": "1"}
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            env=environment,
            start_new_session=True,
        )
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.said += line

    def wait_for(self, text: str) -> None:
        deadline = time.monotonic() + PATIENCE
        while text not in self.said:
            assert self.process.poll() is None or text in self.said, f"it ended early: {self.said}"
            assert time.monotonic() < deadline, f"no {text!r} in: {self.said}"
            time.sleep(0.05)

    def get(self, path: str) -> dict:
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}{path}", timeout=20) as answer:
            return json.load(answer)

    def end(self, how: signal.Signals) -> int:
        os.kill(self.process.pid, how)
        code = self.process.wait(60)
        self._reader.join(10)
        return code


def servers_on(folder: Path) -> list[int]:
    """Processes whose command line names the folder."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit() and int(entry.name) != os.getpid():
            try:
                line = (entry / "cmdline").read_bytes()
            except OSError:
                continue
            if str(folder).encode() in line:
                found.append(int(entry.name))
    return found


def gone(folder: Path) -> bool:
    deadline = time.monotonic() + 60
    while servers_on(folder) and time.monotonic() < deadline:
        time.sleep(0.1)
    return not servers_on(folder)


def half_made_market(folder: Path) -> None:
    """A database in which a load began, wrote a little and did not finish."""
    running = LocalServer(folder / "database")
    running.start()
    try:
        engine = make_engine(running.url)
        migrate(engine)
        begin_load(engine, source="demo market", source_version=1, as_of=AS_OF, rate=0.03)
        row = {"id": [9001], "symbol": ["HALFA"], "company": ["Half"], "kind": ["stock"], "sector": ["x"]}
        replace_rows(engine, Name, pl.DataFrame(row | {"listed_on": [AS_OF.date()]}))
    finally:
        running.stop()


def test_from_a_killed_start_to_a_second_quick_one(tmp_path: Path, server: LocalServer, client: FlaskClient):
    folder, port = tmp_path / "flinch", free_port()
    half_made_market(folder)
    killed = Demo(folder, port)
    killed.wait_for("demo market: prices")
    killed.end(signal.SIGKILL)
    assert gone(folder), "what a killed start leaves running ends by itself"

    first = Demo(folder, port)
    first.wait_for(f"Flinch is at http://127.0.0.1:{port}/")
    assert "interrupted while it made the market; making it afresh" in first.said
    for stage in ("names", "prices", "volatility", "interest", "chains", "store", "publish", "metrics"):
        assert re.search(rf"demo market: {stage} +done in \d+\.\d s", first.said)
    assert first.get("/api/market")["names"] == 502
    assert len(first.get("/api/screens")["starters"]) >= 11
    # Made in another process, it is the same market: one seed and no clock.
    for address in ("/api/dossier/positioning/KESEO", "/api/dossier/volatility/TARNO", "/api/dossier/chain/HELMU"):
        assert first.get(address) == client.get(address).json

    second = Demo(folder, free_port())
    assert second.process.wait(60) == 1
    second._reader.join(10)
    assert second.said.strip() == (
        "Flinch cannot start: Flinch is already running from this folder. Stop it there (Ctrl-C) first."
    )

    database = next(pid for pid in servers_on(folder) if b"mariadbd" in Path(f"/proc/{pid}/cmdline").read_bytes())
    os.kill(database, signal.SIGKILL)
    first.wait_for("the database server had ended; it was started again")
    deadline = time.monotonic() + PATIENCE
    while time.monotonic() < deadline:
        try:
            assert first.get("/api/tray")["items"] == []
            break
        except OSError:
            time.sleep(0.2)
    assert first.end(signal.SIGINT) == 0
    assert gone(folder)
    assert server._process is not None
    assert server._process.poll() is None, "the tests' own database server is another one and goes on"

    again = Demo(folder, port)
    again.wait_for("Flinch is at")
    assert "demo market:" not in again.said, "the market is made once"
    assert again.get("/api/market")["names"] == 502
    assert again.end(signal.SIGTERM) == 0
    assert gone(folder)


def test_a_data_folder_that_was_never_finished_is_made_again(tmp_path: Path):
    folder = tmp_path / "database"
    (folder / "data" / "mysql").mkdir(parents=True)
    (folder / "data" / "ibdata1").write_text("half")
    (folder / "server.pid").write_text(str(os.getpid()))
    running = LocalServer(folder)
    running.start()
    running.stop()
    assert gone(folder)


def test_a_port_in_use_is_one_clear_line(tmp_path: Path):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        demo = Demo(tmp_path / "flinch", port)
        assert demo.process.wait(60) == 1
        demo._reader.join(10)
    assert demo.said.strip() == (
        f"Flinch cannot start: Port {port} is in use. Choose another: scripts/demo --port {port + 1}"
    )


@pytest.mark.parametrize("port", ["0", "99999", "web", "-1"])
def test_a_port_that_is_none_is_refused(tmp_path: Path, port: str):
    demo = Demo(tmp_path / "flinch", 1, "--port", port)
    assert demo.process.wait(60) == 2
    demo._reader.join(10)
    assert "give a number from 1 to 65535" in demo.said or "expected one argument" in demo.said
