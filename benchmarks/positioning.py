"""Exposure along 41 spots, and a new snapshot of the whole demo market published while the old version is served.

The references are 41 plain vectorised evaluations of gamma, ours and NumPy's, and reading the snapshot's contracts back.
"""

from __future__ import annotations

import json
import logging
import multiprocessing
import tempfile
import threading
import time
import urllib.request
from pathlib import Path

import numpy as np
from werkzeug.serving import make_server

from flinch.core.gamma import Contracts, contract_gamma, exposure_profile, spot_grid
from flinch.feeds.load_simulated import load_demo_market, next_snapshot
from flinch.feeds.publish import publish
from flinch.feeds.simulated import simulate
from flinch.store.databases import Databases
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.chain import read_strike_rows
from flinch.store.migrate import migrate_market, migrate_owned
from measure import free_port, seconds, sized, table

NAMES, CONTRACTS, RATE = sized(6_000, 20), sized(1_500_000, 4_000), 0.03


def profile() -> None:
    rng = np.random.default_rng(11)
    spot = rng.uniform(5, 500, NAMES)
    name = np.sort(rng.integers(0, NAMES, CONTRACTS))
    strike = spot[name] * np.exp(rng.normal(0, 0.15, CONTRACTS))
    years, vol = rng.uniform(0.003, 2.0, CONTRACTS), rng.uniform(0.1, 1.0, CONTRACTS)
    carry, weight = np.zeros(CONTRACTS), rng.normal(0, 1e5, CONTRACTS)
    contracts = Contracts(name, strike, years, vol, carry, weight)
    shares = spot_grid(1.0)

    def plain() -> np.ndarray:
        out = np.empty((NAMES, shares.size))
        for place, share in enumerate(shares):
            at = share * spot
            gamma = contract_gamma(at[name], strike, years, vol, rate=RATE, dividend_yield=carry)
            out[:, place] = np.bincount(name, weight * gamma, NAMES) * at * at * 0.01
        return out

    def by_numpy() -> None:
        root = vol * np.sqrt(years)
        for share in shares:
            at = share * spot[name]
            d1 = (np.log(at / strike) + (RATE + 0.5 * vol * vol) * years) / root
            np.exp(-0.5 * d1 * d1) / (2.5066282746310002 * at * root)

    ours = exposure_profile(contracts, spot, rate=RATE)
    reference = plain()
    off = np.abs(ours - reference).max() / np.abs(reference).max()
    took, plainly = seconds(lambda: exposure_profile(contracts, spot, rate=RATE), 3), seconds(plain, 2)
    table(
        f"Exposure profile over {shares.size} spots, {CONTRACTS:,} contracts of {NAMES:,} names (agreeing to {off:.0e})",
        [
            (f"{shares.size} gamma evaluations, ours, summed", f"{plainly:.2f} s", "1", ""),
            (f"{shares.size} gamma evaluations, NumPy", f"{seconds(by_numpy, 1):.2f} s", "", ""),
            ("the profile", f"{took:.2f} s", f"{took / plainly:.2f} ×", "≤ 1.5 ×"),
        ],
    )


def serve(databases: Databases, port: int) -> None:
    from flinch.app import create_app
    from flinch.settings import Settings

    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    make_server("127.0.0.1", port, create_app(Settings(), databases), threaded=True).serve_forever()


def snapshot() -> None:
    market = simulate()
    last = len(market.snapshots) - 1
    with tempfile.TemporaryDirectory() as folder:
        server = LocalServer(Path(folder) / "database")
        server.start()
        try:
            engine = make_engine(server.market_url)
            migrate_market(engine)
            migrate_owned(make_engine(server.owned_url))
            load_demo_market(engine, lambda stage, share: None, market=market, snapshots=last)
            port = free_port()
            child = multiprocessing.get_context("spawn").Process(
                target=serve, args=(server.databases, port), daemon=True
            )
            child.start()
            _measure(f"http://127.0.0.1:{port}", engine, market, last)
            child.terminate()
        finally:
            server.stop()


def _measure(address: str, engine, market, last: int) -> None:
    body = {"stack": {"universe": "all", "rules": [{"text": "net_exposure > 0"}]}, "columns": ["net_exposure", "flip"]}

    def ask() -> int:
        request = urllib.request.Request(
            f"{address}/api/screen", json.dumps(body).encode(), {"Content-Type": "application/json"}
        )
        with urllib.request.urlopen(request, timeout=30) as answer:
            return json.load(answer)["version"]

    while True:
        try:
            before = ask()
            break
        except OSError:
            time.sleep(0.2)
    answers: list[tuple[float, float, int]] = []
    done = threading.Event()

    def go_on_asking() -> None:
        while not done.is_set():
            began = time.perf_counter()
            version = ask()
            answers.append((began, time.perf_counter() - began, version))
            time.sleep(0.02)

    asking = threading.Thread(target=go_on_asking)
    asking.start()
    time.sleep(1)
    began = time.perf_counter()
    next_snapshot(engine, market, last)
    advanced = time.perf_counter()
    while not answers or answers[-1][2] == before:
        time.sleep(0.05)
    served = time.perf_counter()
    time.sleep(0.5)
    done.set()
    asking.join()
    reading = seconds(lambda: read_strike_rows(engine, market.snapshots[last].taken_at), 3)
    published = seconds(lambda: publish(engine), 2)
    contracts = market.chain.strike.size
    table(
        f"A new snapshot of {contracts:,} contracts, while {len(answers)} requests were answered, none refused",
        [
            ("reading its contracts back", f"{reading:.2f} s", "1", ""),
            ("publish: surfaces, exposures, what was opened", f"{published:.1f} s", f"{published / reading:.1f} ×", "< 5 s"),
            ("written and published beside the requests", f"{advanced - began:.1f} s", "", ""),
            ("until the new version was served", f"{served - began:.1f} s", "", ""),
            ("longest request meanwhile", f"{max(took for _, took, _ in answers) * 1e3:,.0f} ms", "", ""),
        ],
    )  # fmt: skip


def main() -> None:
    profile()
    if sized(1, 0):
        snapshot()


if __name__ == "__main__":
    main()
