"""Loading files into a market, against Polars reading, casting and sorting them; and the memory that an import takes."""

from __future__ import annotations

import contextlib
import datetime as dt
import multiprocessing
import os
import tempfile
import time
from pathlib import Path

import numpy as np
import polars as pl

from flinch.feeds.files.importing import Asked, import_file
from flinch.feeds.publish import compile_publish
from flinch.market.markets import make_market
from flinch.store.databases import Databases
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.calendars import sessions_between
from flinch.store.market.settings import MarketSettings
from measure import seconds, sized, table

NAMES, SESSIONS = sized(6_000, 20), sized(500, 12)
CONTRACTS = sized(250, 8)
"""A name."""
TAKEN = dt.datetime(2026, 9, 9, 19, 45, tzinfo=dt.UTC)


class Published(Exception):
    """What is measured is over: rows are checked and stored."""


def symbols() -> list[str]:
    """Made-up symbols of four letters and a few."""
    letters = "ABEKLMNORSTUVZ"
    return [
        f"{letters[n % 14]}{letters[n // 14 % 14]}{letters[n // 196 % 14]}{letters[n // 2744 % 14]}O"
        for n in range(NAMES)
    ]


def write_bars(path: Path) -> None:
    """Daily bars as text, by session and name."""
    days = sessions_between("XNYS", dt.date(2024, 9, 1), dt.date(2026, 9, 9)).session[-SESSIONS:]
    rng = np.random.default_rng(5)
    close = np.round(100 * np.exp(np.cumsum(rng.normal(0, 0.02, (SESSIONS, NAMES)), axis=0)), 2).ravel()
    pl.DataFrame(
        {
            "symbol": np.tile(symbols(), SESSIONS),
            "session": np.repeat(days, NAMES),
            "open": close, "high": np.round(close * 1.01, 2), "low": np.round(close * 0.99, 2), "close": close,
            "volume": rng.integers(1_000, 9_000_000, close.size),
        }
    ).write_csv(path)  # fmt: skip


def write_chains(path: Path) -> None:
    """One moment of all chains as Parquet."""
    strikes = np.arange(CONTRACTS // 2) % 25 * 2.5 + 70
    days = np.datetime64("2026-09-18") + 7 * np.arange(10)
    half = CONTRACTS // 2
    rows = NAMES * 2 * half
    bid = np.round(np.random.default_rng(6).uniform(0.1, 20, rows), 2)
    pl.DataFrame(
        {
            "symbol": np.repeat(symbols(), 2 * half),
            "expiration": np.tile(np.repeat(days[np.arange(half) // 25 % 10], 2), NAMES),
            "strike": np.tile(np.repeat(strikes, 2), NAMES),
            "right": np.tile(np.array(["C", "P"]), NAMES * half),
            "underlying": 100.0, "bid": bid, "ask": np.round(bid + 0.1, 2), "volume": 10, "open_interest": 500,
        }
    ).with_columns(taken_at=pl.lit(TAKEN)).write_parquet(path)  # fmt: skip


def stored(databases: Databases, market: str, path: Path, kind: str) -> float:
    """Seconds until a file is checked and stored; publishing is not begun."""
    engine = make_engine(databases.market_url(market))
    began, over = time.perf_counter(), [0.0]

    def tell(stage: str, share: float) -> None:
        if stage.startswith("publishing") and not over[0]:
            over[0] = time.perf_counter() - began
            raise Published

    with contextlib.suppress(Published):
        import_file(engine, Asked(path, kind, make_names=True), tell)
    took = over[0] or time.perf_counter() - began
    engine.dispose()
    return took


def peak(socket: Path, password: str, path: Path, queue: multiprocessing.Queue[int]) -> None:
    """What a process that checks a file takes at most, MB."""
    engine = make_engine(Databases(socket, password).market_url("bars"))
    import_file(engine, Asked(path, "daily_bars", dry=True, make_names=True))
    # Not what the system says of the process and who began it together.
    status = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text().splitlines())
    queue.put(int(status["VmHWM"].split()[0]) >> 10)


def measured_peak(databases: Databases, path: Path) -> int:
    """As `peak`, of a process of its own."""
    spawn = multiprocessing.get_context("spawn")
    queue = spawn.Queue()
    process = spawn.Process(target=peak, args=(databases.socket, databases.password, path, queue))
    process.start()
    found = queue.get()
    process.join()
    return int(found)


def main() -> None:
    """Measure, and print."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        server = LocalServer(folder / "database")
        server.start()
        try:
            compile_publish()
            bars, chains = folder / "daily_bars.csv", folder / "chains.parquet"
            write_bars(bars)
            write_chains(chains)
            for market in ("bars", "chains"):
                make_market(server.databases, market, MarketSettings())
            schema = {name: pl.Float64 for name in ("open", "high", "low", "close", "volume")}

            def read_bars() -> None:
                pl.read_csv(bars, schema_overrides=schema, try_parse_dates=True).sort("session", "symbol")

            def read_chains() -> None:
                rows = pl.read_parquet(chains).with_columns(pl.col("strike", "bid", "ask").cast(pl.Float64))
                rows.sort("taken_at", "symbol", "expiration", "strike", "right")

            rows = []
            for words, reference, market, path, kind, wanted in (
                (f"{NAMES * SESSIONS:,} daily bars from text", read_bars, "bars", bars, "daily_bars", "4.0"),
                (
                    f"{NAMES * CONTRACTS // 2 * 2:,} contracts from Parquet",
                    read_chains,
                    "chains",
                    chains,
                    "chains",
                    "3.0",
                ),
            ):
                base = seconds(reference, 3)
                ours = stored(server.databases, market, path, kind)
                rows.append((f"Polars reads, casts and sorts {words}", f"{base:.2f} s", "1.0", ""))
                rows.append(("Flinch checks and stores them", f"{ours:.2f} s", f"{ours / base:.1f}", wanted))
            text = bars.read_text().split("\n", 1)
            sizes = []
            for times in (1, 2, 4):
                larger = folder / "larger.csv"
                larger.write_text(text[0] + "\n" + text[1] * times)
                sizes.append((os.path.getsize(larger) >> 20, measured_peak(server.databases, larger)))
            for size, most in sizes:
                rows.append(
                    (
                        f"memory of a check of {size} MB, at most",
                        f"{most} MB",
                        f"{most / sizes[0][1]:.2f}",
                        "< 1,024 MB",
                    )
                )
            table("Loading files", rows)
        finally:
            server.stop()


if __name__ == "__main__":
    main()
