"""A market of 6,000 names, 504 sessions and about 1,500,000 contracts, made by the simulator itself and measured through HTTP.

Making it takes ten minutes and more. The folder is kept when one is named: `python benchmarks/full_size.py FOLDER [NAMES]`.
"""

from __future__ import annotations

import datetime as dt
import json
import multiprocessing
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import sync_playwright
from sqlalchemy import Engine, func, select

from flinch.feeds.load_simulated import load_demo_market
from flinch.feeds.publish import publish
from flinch.feeds.simulated import simulate
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.chain import stored
from flinch.store.market.models import NameChain
from flinch.store.market.state import advance, begin_moment, read_state
from flinch.store.migrate import migrate_market, migrate_owned
from hand import BROWSER, COLUMNS, RULES
from measure import free_port, memory, table

NAMES = int(sys.argv[2]) if len(sys.argv) > 2 else 6_000
_DRAG_STEPS, _DRAG_SECONDS = 60, 2.0
_PAGE = 100
_EVIDENCE = ["15 <= price <= 250", "iv30 >= 30", "close > sma(close, 50)", "rsi(14) < 65", "iv_hv_ratio >= 1.1"]


def columns_of(server: LocalServer) -> Path:
    """Where the arrays of the market are kept from one start to the next."""
    return server.folder.with_name("columns")


class Served:
    """The process, asked over HTTP."""

    def __init__(self, server: LocalServer) -> None:
        self.port = free_port()
        self.address = f"http://127.0.0.1:{self.port}"
        began = time.perf_counter()
        databases = server.databases
        addresses = [str(databases.socket), databases.password, str(columns_of(server)), str(self.port)]
        script = str(Path(__file__).with_name("served.py"))
        self.process = subprocess.Popen([sys.executable, script, *addresses])
        while True:
            try:
                self.ask("/api/screen", {"stack": {"universe": "all"}, "count": _PAGE})
                break
            except OSError:
                assert self.process.poll() is None, "it ended at its start"
                time.sleep(0.1)
        self.seconds = time.perf_counter() - began

    def ask(self, path: str, body: object = None, *, packed: bool = False) -> bytes:
        """The bytes of an answer, as they travel when `packed`."""
        data = None if body is None else json.dumps(body).encode()
        headers = {"Content-Type": "application/json"} | ({"Accept-Encoding": "gzip"} if packed else {})
        with urllib.request.urlopen(urllib.request.Request(self.address + path, data, headers), timeout=120) as answer:
            return bytes(answer.read())

    def patiently(self, path: str, body: object = None) -> tuple[float, Any]:
        """Seconds until an answer is there, and what it says; what is being read, or worked out behind it, is asked for again."""
        began = time.perf_counter()
        while True:
            try:
                answer = json.loads(self.ask(path, body))
                return time.perf_counter() - began, answer
            except urllib.error.HTTPError as error:
                if error.code != 503:
                    raise RuntimeError(f"{path}: {error.read().decode()}") from None
                time.sleep(0.5)

    def memory(self) -> tuple[float, float]:
        """Of its own, and with the files that are mapped, in GB."""
        own, mapped = memory(self.process.pid)
        return own / 1024, (own + mapped) / 1024

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait()


def nine_rules(step: int) -> dict[str, Any]:
    """A screen of nine rules, one of whose edges moves."""
    rules = [{"text": rule.format(edge=round(5 + 0.37 * step, 2))} for rule in RULES]
    return {"stack": {"universe": "all", "rules": rules}, "columns": COLUMNS, "sort": ["-iv_hv_ratio"], "count": _PAGE}


def answers_of_a_drag(address: str) -> int:
    """How many answers are drawn while an edge is dragged for two seconds."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(**BROWSER)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/screen")
        page.wait_for_selector("tr[aria-rowindex]")
        page.wait_for_timeout(3_000)
        page.evaluate(
            """() => { window.drawn = new Set(); new MutationObserver(() =>
            window.drawn.add(document.querySelector(".results h2").innerText)).observe(
            document.querySelector(".results h2"), { childList: true, subtree: true, characterData: true }); }"""
        )
        box = page.get_by_role("slider", name="Implied over historical volatility, lower edge").bounding_box()
        assert box is not None
        y = box["y"] + box["height"] / 2
        page.mouse.move(box["x"] + box["width"] / 2, y)
        page.mouse.down()
        for step in range(_DRAG_STEPS):
            began = time.perf_counter()
            page.mouse.move(box["x"] + 30 + 2 * step, y)
            page.wait_for_timeout(max(0.0, 1e3 * (_DRAG_SECONDS / _DRAG_STEPS - time.perf_counter() + began)))
        drawn = int(page.evaluate("window.drawn.size"))
        page.mouse.up()
        browser.close()
    return drawn


Row = tuple[str, str, str, str]


def look_at_everything(served: Served) -> list[Row]:
    """Every page once: how long its first answer takes, and what the process has of its own after it."""
    names = [name["symbol"] for name in json.loads(served.ask("/api/names"))["names"]]
    everyone, funds = {"universe": "all"}, {"universe": "fund"}
    search = {"kinds": ["put_credit"], "least_days": 20, "most_days": 45, "low": 0.2, "high": 0.3}
    parts = ("", "volatility/", "expected-move/", "positioning/", "chain/", "tape/", "prints/", "price/", "facts/")
    asked: list[tuple[str, list[tuple[str, object]]]] = [
        ("tape of all names, five sessions", [("/api/tape", {"stack": everyone, "sessions": 5, "view": "names"})]),
        ("the same once more", [("/api/tape", {"stack": everyone, "sessions": 5, "view": "tickets"})]),
        ("off-exchange of all names", [("/api/off-exchange", {"stack": everyone})]),
        ("record of shelves", [("/api/off-exchange/record", {"stack": everyone})]),
        ("search over all funds", [("/api/structures", {"stack": funds, "search": search})]),
        ("search over a fund's members", [("/api/structures", {"stack": {"universe": "members:FELRO"}})]),
        ("lineup of all funds", [("/api/lineup", {"source": "fund"})]),
        ("nine parts of ten Dossiers", [(f"/api/dossier/{part}{name}", None) for name in names[:5000:500] for part in parts]),
        ("a screen as of a past session", [("/api/screen", {"stack": everyone, "as_of": "2026-09-03", "count": _PAGE})]),
        ("tape as of a past session", [("/api/tape", {"stack": everyone, "as_of": "2026-09-07", "view": "names"})]),
    ]  # fmt: skip
    rows: list[Row] = []
    for what, requests in asked:
        answers = [served.patiently(path, body) for path, body in requests]
        own, _ = served.memory()
        size = answers[0][1].get("universe")
        told = f"{what} ({size:,})" if isinstance(size, int) else what
        rows.append((told, f"{sum(seconds for seconds, _ in answers):.1f} s", f"{own:.1f} GB", "< 2.0 GB"))
    return rows


def measure(server: LocalServer) -> None:
    """Everything that is asked of a full-size market."""
    engine = make_engine(server.market_url)
    shutil.rmtree(columns_of(server), ignore_errors=True)
    served = Served(server)
    after_a_load = served.seconds
    served.stop()
    served = Served(server)
    time.sleep(45)
    served.patiently("/api/tape", {"stack": {"universe": "all"}, "view": "names"})
    warm = served.memory()
    for step in range(10):
        served.ask("/api/screen", nine_rules(step))
    edges = []
    for step in range(200):
        began = time.perf_counter()
        served.ask("/api/screen", nine_rules(step))
        edges.append(time.perf_counter() - began)
    size = len(served.ask("/api/screen", nine_rules(0) | {"stack": {"universe": "all"}}, packed=True))
    drag = answers_of_a_drag(served.address)
    evidence = []
    for n in range(3):
        body = {"stack": {"universe": "all", "rules": [{"text": rule} for rule in _EVIDENCE]}, "fresh": bool(n)}
        began = time.perf_counter()
        found = json.loads(served.ask("/api/screen/evidence", body))
        while found["evidence"] is None:
            found = json.loads(served.ask(f"/api/screen/evidence/{found['id']}"))
        evidence.append(time.perf_counter() - began)
    worked = served.memory()
    looked = look_at_everything(served)
    most, done = 0.0, threading.Event()

    def watch() -> None:
        nonlocal most
        while not done.wait(0.1):
            most = max(most, served.memory()[0])

    watcher = threading.Thread(target=watch)
    watcher.start()
    before = json.loads(served.ask("/api/market"))["version"]
    state = read_state(engine)
    assert state is not None
    contracts = read_chain_size(engine, state.as_of)
    # The newest snapshot is published once more and served as a new version.
    begin_moment(engine)
    began, spent = time.perf_counter(), time.process_time()
    publish(engine)
    published = time.perf_counter() - began, time.process_time() - spent
    advance(engine, state.as_of)
    while json.loads(served.ask("/api/market"))["version"] == before:
        time.sleep(0.2)
    done.set()
    watcher.join()
    served.stop()
    disk, columns = (
        sum(file.stat().st_size for file in place.rglob("*") if file.is_file()) / (1 << 30)
        for place in (server.data / "flinch_market_demo", columns_of(server))
    )
    table(
        f"A full-size market: {NAMES:,} names, 504 sessions, {contracts:,} contracts",
        [
            ("start to the first answered page", f"{served.seconds:.1f} s", "", "< 12 s"),
            ("the first start after a load, which writes the columns", f"{after_a_load:.0f} s", "", ""),
            ("web process, warm: of its own", f"{warm[0]:.1f} GB", f"{warm[1]:.1f} GB with mapped files", "< 2.0 GB"),
            ("after 200 screens, a drag and evidence", f"{worked[0]:.1f} GB", f"{worked[1]:.1f} GB", "< 2.0 GB"),
            *looked,
            ("at a swap of versions", f"{most:.1f} GB", "", "< 3.0 GB"),
            ("nine rules over HTTP, 95th percentile", f"{1e3 * np.quantile(edges, 0.95):.0f} ms", "", "< 50 ms"),
            (f"answers drawn in a drag of {_DRAG_STEPS} steps, 2 s", str(drag), "", "≥ 30"),
            ("a screen's answer of all names", f"{size / 1e3:.0f} kB", "", "< 60 kB"),
            ("evidence of five rules over HTTP", f"{min(evidence):.2f} s", "", "< 1.2 s"),
            ("publishing a snapshot", f"{published[0]:.1f} s ({published[1]:.1f} CPU s)", "", "< 10 s"),
            ("the database on disk", f"{disk:.1f} GB", "", "< 3 GB"),
            ("the columns beside it", f"{columns:.1f} GB", "", ""),
        ],
    )


def read_chain_size(engine: Engine, taken_at: dt.datetime) -> int:
    """Contracts of a snapshot."""
    rows = select(func.sum(NameChain.contracts)).where(NameChain.taken_at == stored(taken_at))
    with engine.connect() as connection:
        return int(connection.execute(rows).scalar_one())


def make(market_url: str, owned_url: str) -> None:
    """Simulate the market and load it."""
    began = time.perf_counter()
    market = simulate(names=NAMES)
    print(f"simulated in {time.perf_counter() - began:.0f} s", file=sys.stderr, flush=True)
    engine = make_engine(market_url)
    migrate_market(engine)
    migrate_owned(make_engine(owned_url))
    load_demo_market(engine, lambda stage, share: None, market=market)
    print(f"loaded after {time.perf_counter() - began:.0f} s", file=sys.stderr, flush=True)


def main() -> None:
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(temporary)
        there = (folder / "made").exists()
        server = LocalServer(folder / "database")
        if not there:
            server.erase()
        server.start()
        try:
            if not there:
                # In a process of its own, which gives all its memory back.
                child = multiprocessing.get_context("spawn").Process(
                    target=make, args=(server.market_url, server.owned_url)
                )
                child.start()
                child.join()
                assert child.exitcode == 0
                (folder / "made").touch()
            measure(server)
        finally:
            server.stop()


if __name__ == "__main__":
    main()
