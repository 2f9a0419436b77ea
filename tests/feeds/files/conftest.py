"""A database server with an empty market on it, and files for one."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import Engine
from tests.feeds.files.made import RATE, SYMBOLS, bars, chain

from flinch.market import Markets
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.settings import MarketSettings
from flinch.store.migrate import migrate_owned


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LocalServer]:
    running = LocalServer(tmp_path_factory.mktemp("own") / "database")
    running.start()
    migrate_owned(make_engine(running.owned_url))
    yield running
    running.stop()
    # A database is hundreds of megabytes, and all of them lie in memory until the last test.
    running.erase()


@pytest.fixture
def markets(own: LocalServer, tmp_path: Path) -> Iterator[Markets]:
    made = Markets(own.databases, tmp_path / "columns")
    made.make("mine", MarketSettings(rate=RATE))
    yield made
    made.remove("mine")


@pytest.fixture
def store(own: LocalServer, markets: Markets) -> Engine:
    return make_engine(own.databases.market_url("mine"))


@pytest.fixture
def files(tmp_path: Path) -> Path:
    """The least that is useful, as somebody might have it."""
    folder = tmp_path / "files"
    folder.mkdir()
    (folder / "list.csv").write_text("Ticker;Security Name\n" + "".join(f"{s};{s.title()} Works\n" for s in SYMBOLS))
    bars().rename({"symbol": "Symbol", "session": "Date"}).write_csv(folder / "prices.csv")
    chain().write_parquet(folder / "chains-2026-09-09.parquet")
    return folder
