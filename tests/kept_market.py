"""The demo market as tests want it, made once by the start command itself: the database folder, what was said, and the
simulator's result.

They are kept outside the tree under a key of everything that makes them, so that a change of the interface, of a page or of a
test makes nothing again. Each worker of a run copies the folder and starts a server of its own on the copy.
"""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import pickle
import shutil
import signal
from pathlib import Path

import polars as pl
import pytest
from tests.demo_process import KEPT_IN, PROJECT, Demo, free_port, gone

from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import AS_OF
from flinch.store.bulk import replace_rows
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.models import Name
from flinch.store.market.state import begin_load
from flinch.store.migrate import migrate_market

_MADE_BY = (
    *[
        f"src/flinch/core/{part}"
        for part in ("arrays.py", "calendar.py", "rolling.py", "flow", "gamma", "moves", "pricing", "volatility")
    ],
    *[
        f"src/flinch/store/{part}"
        for part in (
            "bulk.py",
            "databases.py",
            "market",
            "owned/migrations",
            "local_server.py",
            "migrate.py",
            "reading.py",
        )
    ],
    *[f"src/flinch/feeds/{part}" for part in ("simulated", "load_simulated.py", "publish.py", "state.py")],
    "src/flinch/hours.py",
    "src/flinch/tape",
    "src/flinch/demo.py",
    "requirements.lock",
    "tests/kept_market.py",
    "tests/kept_demo.py",
)
_KEPT = 2
"""Markets that are kept; older ones go."""


def cache_folder() -> Path:
    """Where what tests make once is kept; FLINCH_TEST_CACHE says another place."""
    default = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "flinch-tests"
    return Path(os.environ.get("FLINCH_TEST_CACHE") or default)


def sources_key() -> str:
    """Changes with any source that the market or its tables follow from."""
    total = hashlib.sha256()
    for part in _MADE_BY:
        place = PROJECT / part
        files = sorted(place.rglob("*")) if place.is_dir() else [place]
        for path in files:
            if path.is_file() and "__pycache__" not in path.parts:
                total.update(path.relative_to(PROJECT).as_posix().encode() + b"\0" + path.read_bytes() + b"\0")
    return total.hexdigest()[:20]


def kept_market() -> Path:
    """Folder of the market of these sources: `simulated.pickle`, `database`, what the starts said, `killed.txt` and
    `first.txt`, and what the first page said of the market, `meanwhile.json`; made when it is not there.

    Who comes while another makes it waits. It is put in its place when it is whole, so what is there is whole.
    """
    markets = cache_folder() / "markets"
    markets.mkdir(parents=True, exist_ok=True)
    folder = markets / sources_key()
    with (markets / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.is_dir():
            _remove_old(markets)
            making = markets / "making"
            shutil.rmtree(making, ignore_errors=True)
            making.mkdir()
            try:
                _make(making)
            except BaseException as error:
                pytest.exit(f"the demo market could not be made: {error}", 1)
            making.rename(folder)
        os.utime(folder)
    return folder


def simulated_market() -> SimulatedMarket:
    """What the simulator made."""
    with (kept_market() / "simulated.pickle").open("rb") as file:
        found: SimulatedMarket = pickle.load(file)
    return found


def copied_database(folder: Path) -> LocalServer:
    """A server, not started yet, on a copy of the loaded database."""
    shutil.copytree(kept_market() / "database", folder)
    return LocalServer(folder)


def _make(folder: Path) -> None:
    """The start command meets a load that somebody else left half done, is killed while it makes the market, and starts again."""
    half_made_market(folder)
    killed = Demo(folder, free_port())
    killed.wait_for("demo market: prices")
    killed.end(signal.SIGKILL)
    assert gone(folder / "database"), "what a killed start leaves running ends by itself"
    (folder / "killed.txt").write_text(killed.said)
    keep = {KEPT_IN: str(folder / "simulated.pickle")}
    first = Demo(folder, free_port(), module="tests.kept_demo", **keep)
    first.wait_for("Flinch is at")
    (folder / "meanwhile.json").write_text(json.dumps(first.get("/api/market") | {"sessions": []}))
    first.wait_for("demo market: the rest is there too")
    assert first.end(signal.SIGINT) == 0
    assert gone(folder / "database")
    (folder / "first.txt").write_text(first.said)
    assert (folder / "simulated.pickle").is_file()


def half_made_market(folder: Path) -> None:
    """A database in which a load began, wrote a little and did not finish."""
    running = LocalServer(folder / "database")
    running.start()
    try:
        engine = make_engine(running.market_url)
        migrate_market(engine)
        begin_load(engine, source="demo market", source_version=1, as_of=AS_OF, rate=0.03)
        row = {"id": [9001], "symbol": ["HALFA"], "company": ["Half"], "kind": ["stock"], "sector": ["x"]}
        replace_rows(engine, Name, pl.DataFrame(row | {"listed_on": [AS_OF.date()]}))
        engine.dispose()
    finally:
        running.stop()


def _remove_old(markets: Path) -> None:
    made = sorted((path for path in markets.iterdir() if path.is_dir()), key=lambda path: path.stat().st_mtime)
    for path in made[: max(0, len(made) - _KEPT + 1)]:
        shutil.rmtree(path, ignore_errors=True)


if __name__ == "__main__":
    kept_market()
