"""The start command with a market that runs, as processes: whichever of them is killed, no moment is lost."""

from __future__ import annotations

import datetime as dt
import shutil
import signal
from pathlib import Path

import psutil
from tests.demo_process import Demo, free_port, gone
from tests.kept_market import kept_market
from tests.waiting import until

from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.minutes import read_minutes
from flinch.store.market.state import read_state

WEDNESDAY = dt.date(2026, 9, 9)


def as_of(demo: Demo) -> dt.datetime:
    return dt.datetime.fromisoformat(demo.get("/api/market")["as_of"])


def goes_on(demo: Demo) -> None:
    """It shows a later moment than now."""
    now = as_of(demo)
    until(lambda: as_of(demo) > now, "a later moment")


def exchange(demo: Demo) -> psutil.Process:
    found: list[psutil.Process] = []

    def there() -> bool:
        children = psutil.Process(demo.process.pid).children()
        found[:] = [one for one in children if "spawn_main" in " ".join(one.cmdline())]
        return bool(found)

    until(there, "the exchange's process")
    return found[0]


def test_whoever_is_killed_the_market_goes_on_and_no_moment_is_lost(tmp_path: Path):
    shutil.copytree(kept_market() / "database", tmp_path / "database")
    first = Demo(tmp_path, free_port(), "--run", "60")
    first.wait_for("Flinch is at")
    goes_on(first)
    exchange(first).kill()
    goes_on(first)
    seen = as_of(first)
    first.end(signal.SIGKILL)
    assert gone(tmp_path / "database")
    # It goes on as it ran, from where it was.
    second = Demo(tmp_path, free_port())
    second.wait_for("Flinch is at")
    assert as_of(second) >= seen
    goes_on(second)
    assert second.end(signal.SIGINT) == 0
    assert gone(tmp_path / "database")
    server = LocalServer(tmp_path / "database")
    server.start()
    try:
        engine = make_engine(server.market_url)
        state = read_state(engine)
        assert state is not None
        minutes = read_minutes(engine, (1, 10_000), (WEDNESDAY, WEDNESDAY), as_told=True)
        engine.dispose()
    finally:
        server.stop()
    told = minutes["at"].unique().sort().to_list()
    regular = [at for at in told if dt.time(13, 30) <= at.time() < dt.time(20)]
    wanted = min(state.as_of.replace(tzinfo=None), dt.datetime(2026, 9, 9, 20))
    opened = dt.datetime(2026, 9, 9, 13, 30)
    # One that was being told may be there already.
    assert regular[: (wanted - opened) // dt.timedelta(minutes=1)] == [
        opened + dt.timedelta(minutes=place) for place in range((wanted - opened) // dt.timedelta(minutes=1))
    ]
