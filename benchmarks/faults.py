"""A running demo whose exchange, web process and database are killed at random moments: nothing is lost, doubled, out of order or
half shown.

It runs at 60 times. What pages were told meanwhile, and all that is kept at the end, is compared with a twin that nobody
disturbed.
A folder with a market is used when it is named, and copied: `python benchmarks/faults.py FOLDER`.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import random
import shutil
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from http.client import HTTPException
from pathlib import Path
from typing import Any

import polars as pl
import psutil
from sqlalchemy import Engine, func, select

from demo import ask, serve
from flinch.feeds.going_on import Exchange
from flinch.reach import reached
from flinch.store.databases import DEMO
from flinch.store.engine import make_engine
from flinch.store.market.models import DailyBar, MarketBase
from flinch.store.market.names import read_names
from flinch.store.market.state import read_state
from flinch.store.reading import read_table
from measure import sized, table

TIMES = sized(20, 1)
UNLIKE = {"market_run", "market_state", "market_job"}
"""Tables that tell when somebody did something by the clock on the wall."""
NAMES = 40


def patiently(question: Callable[[], Any]) -> Any:
    """An answer, as soon as there is one."""
    deadline = time.monotonic() + 600
    while True:
        with contextlib.suppress(OSError, HTTPException, ValueError):
            return question()
        assert time.monotonic() < deadline, "nothing answers any more"
        time.sleep(0.05)


class Watching:
    """Asks all the time what the moment is, and what prices the Screen shows of it."""

    def __init__(self) -> None:
        self.address = ""
        self.out_of_order = 0
        self.prices: dict[dt.datetime, dict[str, float]] = {}
        self.told_otherwise = 0
        self.newest: dt.datetime | None = None
        threading.Thread(target=self._watch, daemon=True).start()

    def _watch(self) -> None:
        body = {"stack": {"universe": "all", "rules": []}, "columns": ["price"], "count": NAMES}
        while True:
            with contextlib.suppress(OSError, HTTPException, ValueError, KeyError):
                before = ask(self.address, "/api/market")
                shown = ask(self.address, "/api/screen", body)
                at = dt.datetime.fromisoformat(before["as_of"])
                if self.newest is not None and at < self.newest:
                    self.out_of_order += 1
                self.newest = at
                if shown["version"] == before["version"]:
                    prices = dict(zip(shown["symbols"][:NAMES], shown["columns"][0]["numbers"], strict=True))
                    self.told_otherwise += self.prices.setdefault(at, prices) != prices
            time.sleep(0.05)

    def later(self) -> None:
        """Wait for a later moment than now."""
        now, deadline = self.newest, time.monotonic() + 600
        while self.newest == now:
            assert time.monotonic() < deadline, "the market does not go on any more"
            time.sleep(0.02)


def disturbed(folder: Path, watching: Watching, chance: random.Random) -> dict[str, int]:
    """Run the market and kill each of its processes so many times."""
    killed = dict.fromkeys(("exchange", "database", "web process"), 0)
    order = [what for what in killed for _ in range(TIMES)]
    chance.shuffle(order)
    while True:
        with contextlib.ExitStack() as stack:
            running = stack.enter_context(serve(folder))
            watching.address = running.address
            let_run(running.address, 60)
            while order:
                watching.later()
                time.sleep(chance.uniform(0.0, 2.5))
                what = order.pop()
                if what == "web process":
                    running.process.kill()
                    running.process.wait()
                    wait_for_end(folder)
                    killed[what] += 1
                    break
                mark = b"mariadbd" if what == "database" else b"spawn_main"
                found = [one for one in children(running.process.pid) if mark in command(one)]
                if not found:
                    order.append(what)
                    continue
                found[0].kill()
                killed[what] += 1
            else:
                watching.later()
                let_run(running.address, 0)
                time.sleep(3)
                return killed


def let_run(address: str, speed: int) -> None:
    patiently(lambda: ask(address, "/api/run", {"speed": speed}, "PUT"))


def to_open(address: str) -> None:
    ask(address, "/api/run", {"to": "open"}, "PUT")
    while ask(address, "/api/run")["until"] is not None:
        time.sleep(1)


def children(pid: int) -> list[psutil.Process]:
    return psutil.Process(pid).children(recursive=True)


def command(process: psutil.Process) -> bytes:
    with contextlib.suppress(psutil.Error):
        return " ".join(process.cmdline()).encode()
    return b""


def wait_for_end(folder: Path) -> None:
    while any(str(folder).encode() in command(one) for one in psutil.process_iter()):
        time.sleep(0.05)


def kept(engine: Engine) -> dict[str, pl.DataFrame]:
    """Every table of the market, in the order of its key."""
    found = {}
    for mapper in MarketBase.registry.mappers:
        rows = mapper.class_.__table__
        if rows.name not in UNLIKE:
            keys = [column.name for column in rows.primary_key]
            found[rows.name] = read_table(engine, select(*rows.columns)).sort(keys)
    return found


def undisturbed(folder: Path, until: dt.datetime, seen: dict[dt.datetime, dict[str, float]]) -> tuple[int, int, Any]:
    """The twin's moments up to one, those of them that pages showed otherwise, and all that it keeps."""
    with reached(folder) as databases:
        engine = make_engine(databases.market_url(DEMO))
        exchange, moments, otherwise = Exchange(engine), 0, 0
        symbols = dict(read_names(engine).select("id", "symbol").iter_rows())
        while exchange.as_of < until:
            told = exchange.step().at
            moments += 1
            prices = seen.get(told)
            if prices is None:
                continue
            newest = select(func.max(DailyBar.session)).scalar_subquery()
            bars = read_table(engine, select(DailyBar.name_id, DailyBar.close).where(DailyBar.session == newest))
            closes = {symbols[name]: close for name, close in bars.iter_rows()}
            otherwise += any(prices[symbol] != closes.get(symbol) for symbol in prices)
        everything = kept(engine)
        engine.dispose()
    return moments, otherwise, everything


def main(folder: Path) -> None:
    chance, watching = random.Random(26), Watching()
    twin = folder.with_name(folder.name + "-twin")
    with serve(folder) as running:
        # Of the market's first session a quarter of an hour is left.
        if TIMES > 1:
            to_open(running.address)
    shutil.copytree(folder / "database", twin / "database")
    began = time.perf_counter()
    killed = disturbed(folder, watching, chance)
    took = time.perf_counter() - began
    with reached(folder) as databases:
        engine = make_engine(databases.market_url(DEMO))
        state, mine = read_state(engine), kept(engine)
        engine.dispose()
    assert state is not None
    moments, otherwise, twins = undisturbed(twin, state.as_of, watching.prices)
    unlike = [name for name, rows in twins.items() if not rows.equals(mine[name])]
    table(
        f"killed while {moments} moments were told, in {took / 60:.0f} minutes",
        [
            *((f"{what} killed", f"{times} times", "", f"{TIMES}") for what, times in killed.items()),
            ("moments out of order", f"{watching.out_of_order}", "", "0"),
            ("moments shown twice, differently", f"{watching.told_otherwise}", "", "0"),
            (f"of {len(watching.prices)} moments looked at, shown half", f"{otherwise}", "", "0"),
            ("tables unlike those of a market nobody disturbed", ", ".join(unlike) or "none", "", "none"),
        ],
    )


if __name__ == "__main__":
    with tempfile.TemporaryDirectory(prefix="flinch-faults-") as name:
        place = Path(name) / "disturbed"
        place.mkdir()
        if len(sys.argv) > 1:
            shutil.copytree(Path(sys.argv[1]) / "database", place / "database")
        main(place)
