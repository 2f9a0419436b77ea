"""One database server, one demo market and one running application for the whole run."""

from __future__ import annotations

import dataclasses
import threading
from collections.abc import Iterator
from pathlib import Path

import hypothesis
import pytest
from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI
from sqlalchemy import Engine, delete
from tests.demo_process import free_port
from tests.kept_market import copied_database, simulated_market
from tests.somebody import somebody

from flinch.app import create_app
from flinch.clock import wall
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.storylines import Storyline, storylines
from flinch.market import View, load_frame, opened, warm
from flinch.serving import make_server
from flinch.settings import Settings
from flinch.store.databases import DEMO
from flinch.store.engine import make_engine, transaction
from flinch.store.local_server import LocalServer
from flinch.store.owned.kept import OWN_LINES
from flinch.store.owned.models import Trip, Tripwire, TripwireWaiting, WatchedMarket
from flinch.store.owned.tray import remove_from_tray

# The first example compiles what it tests; how long that takes says nothing.
hypothesis.settings.register_profile("flinch", deadline=None, derandomize=True)
hypothesis.settings.load_profile("flinch")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What needs the market comes last: it may still be made."""
    items.sort(
        key=lambda item: (
            "server" in getattr(item, "fixturenames", ()) or "simulated" in getattr(item, "fixturenames", ())
        )
    )


@pytest.fixture(scope="session")
def simulated() -> SimulatedMarket:
    return simulated_market()


@pytest.fixture(scope="session")
def small(simulated: SimulatedMarket) -> SimulatedMarket:
    """The same market with its last two snapshots and without minutes and trades, for tests that write one of their own."""
    none = {
        "minute_bars": simulated.minute_bars.head(0),
        "tape": simulated.tape.head(0),
        "prints": simulated.prints.head(0),
    }
    return dataclasses.replace(simulated, snapshots=simulated.snapshots[-2:], **none)


@pytest.fixture(scope="session")
def stories() -> dict[str, Storyline]:
    return {story.name: story for story in storylines()}


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LocalServer]:
    """A MariaDB server of its own, never the demo's and never the system's."""
    running = copied_database(tmp_path_factory.mktemp("kept") / "database")
    running.start()
    yield running
    running.stop()


@pytest.fixture(scope="session")
def engine(server: LocalServer) -> Engine:
    """The demo market in a migrated database."""
    return make_engine(server.market_url)


@pytest.fixture(scope="session")
def owned(server: LocalServer) -> Engine:
    """What users own."""
    return make_engine(server.owned_url)


@pytest.fixture(scope="session")
def columns(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Where the arrays of the market are kept, so that they are written once."""
    return tmp_path_factory.mktemp("columns")


@pytest.fixture(scope="session")
def market(engine: Engine, columns: Path) -> View:
    frame = load_frame(engine, columns)
    assert frame is not None
    return opened(frame, engine)


@pytest.fixture(scope="session")
def app(engine: Engine, server: LocalServer, columns: Path) -> Iterator[OpenAPI]:
    made = create_app(Settings(columns=columns), server.databases)
    # As the start command does: what has to be read or compiled is, before a page waits for it.
    warm(made.extensions["flinch"].markets.open(DEMO).holder.current(), lambda share: None)
    yield made
    # Whatever is under way still ends before the database does.
    running = made.extensions["flinch"]
    for part in (running.watcher, running.live, running.jobs, running.files, running.inbox):
        part.close()


@pytest.fixture
def empty_tray(owned: Engine) -> None:
    remove_from_tray(owned, somebody(owned), None)


@pytest.fixture
def no_lines(owned: Engine) -> Iterator[None]:
    """No lines are there before a test, and what it puts are gone after it."""
    whose = somebody(owned)

    def let_go() -> None:
        for line in OWN_LINES.all(owned, whose):
            OWN_LINES.remove(owned, whose, line.id, wall())

    let_go()
    yield
    let_go()


@pytest.fixture
def no_tripwires(owned: Engine) -> Iterator[None]:
    """Nothing is waited for before a test, and what it makes is gone after it."""

    def let_go() -> None:
        with transaction(owned) as session:
            for table in (Trip, TripwireWaiting, Tripwire, WatchedMarket):
                session.execute(delete(table))

    let_go()
    yield
    let_go()


@pytest.fixture
def client(app: OpenAPI, empty_tray: None) -> FlaskClient:
    return app.test_client()


@pytest.fixture(scope="session")
def live_url(app: OpenAPI) -> Iterator[str]:
    """The application with the built interface, served for a browser."""
    assert (Path(app.root_path).parents[1] / "ui/dist/index.html").is_file(), (
        "build the interface first: scripts/test does"
    )
    port = free_port()
    web = make_server(app, "127.0.0.1", port)
    threading.Thread(target=web.run, daemon=True).start()
    yield f"http://127.0.0.1:{port}"
    web.close()
