"""The demo running as fast as it can for five sessions, asked of at each moment: what the web process holds after 50 moments and
at the end, how fast it ran, and how large the database is against one that its rows are loaded into in bulk.

A market that is there already is used when its folder is named: `python benchmarks/lasting.py FOLDER`; it is moved on.
"""

from __future__ import annotations

import sys
import tempfile
import time
import urllib.error
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import Engine, text

from demo import Running, ask, serve
from flinch.reach import reached
from flinch.store.databases import DEMO
from flinch.store.engine import make_engine
from hand import COLUMNS, RULES
from live import version
from measure import memory, sized, table

MOMENTS, EARLY, EACH = sized(2_000, 4), sized(50, 2), sized(10, 2)
PATIENCE = 600
EVERYBODY: dict[str, Any] = {"universe": "all", "rules": []}
SCREEN = (
    "/api/screen",
    {"stack": EVERYBODY | {"rules": [{"text": rule.format(edge=20)} for rule in RULES]}, "columns": COLUMNS},
)
OTHERS = (
    ("/api/tape", {"stack": EVERYBODY, "view": "names"}),
    ("/api/off-exchange", {"stack": EVERYBODY}),
    ("/api/dossier/TARNO", None),
    ("/api/dossier/positioning/TARNO", None),
)


def answer(running: Running, path: str, body: object) -> None:
    """Ask until it is answered."""
    while True:
        try:
            ask(running.address, path, body)
            return
        except urllib.error.HTTPError as error:
            if error.code != 503:
                raise
            time.sleep(0.2)


def size(folder: Path) -> int:
    """Bytes of the market's tables on disk."""
    return sum(file.stat().st_size for file in (folder / "database/data").glob(f"*_{DEMO}/*.ibd"))


def rebuild(engine: Engine) -> None:
    """Write every table anew in the order of its keys, as when all rows are loaded at once."""
    with engine.connect() as connection:
        tables = connection.scalars(text("SHOW TABLES")).all()
        for name in tables:
            connection.execute(text(f"ALTER TABLE `{name}` FORCE"))


def main(folder: Path) -> None:
    with serve(folder) as running, reached(folder) as databases:
        engine = make_engine(databases.market_url(DEMO))
        first = known = version(engine)
        rebuild(engine)
        began_with = size(folder)
        held: list[int] = []
        began = moved = time.perf_counter()
        goals = ["open", "close"]
        at_first = ask(running.address, "/api/market")["as_of"]
        while known < first + MOMENTS:
            now = version(engine)
            assert time.perf_counter() - moved < PATIENCE, "nothing is told any more"
            if now == known:
                # To the close, over the night, and so on: as fast as it can.
                if ask(running.address, "/api/run")["until"] is None:
                    goals = goals[::-1]
                    ask(running.address, "/api/run", {"to": goals[0]}, "PUT")
                time.sleep(0.05)
                continue
            moved = time.perf_counter()
            told, known = known, now
            answer(running, *SCREEN)
            if now // EACH > told // EACH:
                for path, body in OTHERS:
                    answer(running, path, body)
            held += [memory(running.process.pid)[0]] * (now - told)
        took = time.perf_counter() - began
        ask(running.address, "/api/run", {"speed": 0}, "PUT")
        at_last = ask(running.address, "/api/market")["as_of"]
        grown = size(folder)
        rebuild(engine)
        bulk = size(folder)
        engine.dispose()
    early, late = (float(np.median(held[end - EARLY // 2 : end])) for end in (EARLY, MOMENTS))
    table(
        f"The demo running as fast as it can for {MOMENTS:,} moments, from {at_first} to {at_last}",
        [
            (f"the web process, of its own, after {EARLY} moments", f"{early:.0f} MB", "1", ""),
            ("the same, at the end", f"{late:.0f} MB", f"{late / early:.2f}", "< 1.05"),
            ("the same, at most", f"{max(held)} MB", "", ""),
            ("times as fast as the clock, asked of", f"{60 * MOMENTS / took:.0f}", "", "60"),
            ("the database before, in bulk", f"{began_with >> 20} MB", "", ""),
            ("the database with these sessions, in bulk", f"{bulk >> 20} MB", "1", ""),
            ("the same, as it came", f"{grown >> 20} MB", f"{grown / bulk:.2f}", "< 1.3"),
        ],
    )


if __name__ == "__main__":
    place = nullcontext(sys.argv[1]) if len(sys.argv) > 1 else tempfile.TemporaryDirectory(prefix="flinch-benchmark-")
    with place as name:
        main(Path(name))
