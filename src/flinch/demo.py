"""Starting Flinch with the demo market: database, migrations, market, web server, and stopping all of it again."""

from __future__ import annotations

import contextlib
import importlib
import itertools
import multiprocessing
import os
import signal
import socket
import sys
import threading
import time
import urllib.request
from collections.abc import Iterator
from multiprocessing.context import SpawnProcess
from multiprocessing.synchronize import Event
from pathlib import Path
from typing import NamedTuple

from flinch.folder import AlreadyRunning, only_one
from flinch.memory import give_back, keep_little
from flinch.store.databases import DEMO, Databases
from flinch.store.local_server import LocalServer, ServerFailed, end_with_parent

HOST = "127.0.0.1"


class CannotStart(Exception):
    """Flinch cannot be started; the message is one line that says what to do."""


class Interface:
    """The interface's files, which may still be built beside: whoever builds them writes "built" into a pipe, or ends without."""

    def __init__(self, pipe: int | None) -> None:
        self._built = pipe is None
        self._reader = threading.Thread(target=self._read, args=(pipe,), daemon=True)
        self._reader.start()

    def _read(self, pipe: int | None) -> None:
        if pipe is not None:
            with open(pipe) as told:
                self._built = "built" in told.read()

    def require(self, patience: float | None = None) -> None:
        """Wait until it is built, for so many seconds at most; CannotStart when it will not be."""
        self._reader.join(patience)
        if not self._reader.is_alive() and not self._built:
            raise CannotStart("the interface could not be built; the reason is above")


def run_demo(
    folder: Path,
    port: int,
    *,
    reset: str | None = None,
    interface: int | None = None,
    demo: bool = True,
    market: str | None = None,
    speed: int | None = None,
) -> None:
    """Serve Flinch on `port` until interrupted, with the `demo` market, which is made when it is not there, or as it is.

    `folder` holds the database. `reset` makes the "market" afresh, or "everything", what users own too. `interface` is a pipe
    that tells when the interface is built; it is there already when left out. `market` is opened by who names none. With a
    `speed` the demo market runs as fast from the start, else as it did.
    """
    began = time.monotonic()
    keep_little()
    pages = Interface(interface)
    with _alone(folder):
        _require_free(port)
        server = LocalServer(folder / "database")
        if reset == "everything":
            server.erase()
        # The application is imported while the database server starts.
        importing = threading.Thread(target=importlib.import_module, args=("flinch.app",), daemon=True)
        importing.start()
        try:
            # A plain kill ends Flinch as Ctrl-C does, so that the database is closed in order.
            signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
            server.start()
            if reset == "market":
                server.databases.empty_market(DEMO)
            importing.join()
            with _prepared_market(server, pages) if demo else _as_it_is(server, market) as maker:
                pages.require()
                _serve(server, port, began, maker, market if not demo else DEMO, speed)
        except ServerFailed as error:
            raise CannotStart(str(error)) from None
        finally:
            server.stop()


@contextlib.contextmanager
def _as_it_is(server: LocalServer, market: str | None) -> Iterator[None]:
    """What is there, of which `market` is chosen. Raises CannotStart when it is not there."""
    from flinch.store.engine import make_engine
    from flinch.store.errors import CannotMigrate
    from flinch.store.migrate import migrate_owned
    from flinch.store.owned.owners import LOCAL_OWNER, choose_market, owner_called

    owned = make_engine(server.owned_url)
    try:
        migrate_owned(owned, server.folder / "aside")
        if market is not None:
            there = server.databases.markets()
            if market not in there:
                raise CannotStart(
                    f"there is no market {market!r}, but {', '.join(there)}. Make it: flinch market new {market}"
                )
            choose_market(owned, owner_called(owned, LOCAL_OWNER), market)
    except CannotMigrate as error:
        raise CannotStart(str(error)) from None
    finally:
        owned.dispose()
    yield None


class Maker(NamedTuple):
    """The process that makes the market: what the first page shows, then, once it is told to go on, the rest."""

    process: SpawnProcess
    go_on: Event


@contextlib.contextmanager
def _prepared_market(server: LocalServer, pages: Interface) -> Iterator[Maker | None]:
    """A market that a page can be shown of; while the body runs, the rest of one that is new is made."""
    from sqlalchemy.exc import DBAPIError

    from flinch.feeds.publish import compile_publish
    from flinch.feeds.state import demo_market_loaded, half_made
    from flinch.store.engine import make_engine
    from flinch.store.errors import CannotMigrate
    from flinch.store.migrate import migrate_market, migrate_owned

    owned, engine = make_engine(server.owned_url), make_engine(server.market_url)
    try:
        migrate_owned(owned, server.folder / "aside")
        migrate_market(engine)
        there = demo_market_loaded(engine)
        if not there and half_made(engine):
            print("  an earlier start was interrupted while it made the market; making it afresh", flush=True)
    except CannotMigrate as error:
        raise CannotStart(str(error)) from None
    except DBAPIError as error:
        raise CannotStart(
            f"the database refuses what a start needs ({error.orig}). Nothing that you own was removed; its log is {server.log}"
        ) from None
    finally:
        owned.dispose()
        engine.dispose()
    if there:
        tell_again(server)
        yield None
        return
    # In a process of its own, which gives all its memory back when it ends.
    spawn = multiprocessing.get_context("spawn")
    first_is_there, go_on = spawn.Event(), spawn.Event()
    process = spawn.Process(target=_make_market, args=(server.market_url, first_is_there, go_on), daemon=True)
    process.start()
    try:
        # What that process will run later is compiled meanwhile, by this one, which has nothing else to do.
        threading.Thread(target=compile_publish, daemon=True).start()
        while not first_is_there.wait(0.1):
            pages.require(0)
            if process.exitcode is not None:
                raise CannotStart("the demo market could not be made; the error is above. Start again")
        yield Maker(process, go_on)
    finally:
        process.terminate()
        process.join()


def tell_again(server: LocalServer) -> None:
    """Tell the moment again that the exchange was ended in the middle of, if it was: what is there belongs to no version."""
    from flinch.store.engine import make_engine
    from flinch.store.market.imports import half_done
    from flinch.store.market.state import read_state

    engine = make_engine(server.market_url)
    try:
        state = read_state(engine)
        if state is not None and not state.whole:
            from flinch.feeds.files.importing import recover
            from flinch.feeds.going_on import Exchange

            if half_done(engine) is None:
                Exchange(engine).step()
            else:
                recover(engine)
    finally:
        engine.dispose()


class GoingOn:
    """The exchange in a process of its own, which is there while the market is to run; one that ended is begun again."""

    def __init__(self, url: str, speed: int | None) -> None:
        """`speed`: how fast it is to run from now on; none: as it is to already."""
        from flinch.store.engine import make_engine

        self._url, self._engine, self._speed = url, make_engine(url, patient=False), speed
        self._process: SpawnProcess | None = None
        self._failed, self._wait_until = 0, 0.0

    def look(self) -> None:
        """Begin it when it is needed and not there."""
        from flinch.store.market.run import read_run, set_run

        if self._speed is not None and read_run(self._engine) is not None:
            set_run(self._engine, self._speed, None)
            self._speed = None
        if self._process is not None:
            if self._process.is_alive():
                return
            # One that fails again and again is not begun every second.
            self._failed = self._failed + 1 if self._process.exitcode else 0
            self._wait_until = time.monotonic() + min(60, 2**self._failed - 1)
            self._process = None
        if time.monotonic() < self._wait_until:
            return
        run = read_run(self._engine)
        if run is not None and not run.still:
            self._process = multiprocessing.get_context("spawn").Process(target=_go_on, args=(self._url,), daemon=True)
            self._process.start()

    def stop(self) -> None:
        if self._process is not None:
            self._process.terminate()
            self._process.join()
        self._engine.dispose()


def _go_on(url: str) -> None:
    from sqlalchemy.exc import DBAPIError

    from flinch.errors import FlinchError
    from flinch.feeds.going_on import go_on
    from flinch.store.engine import make_engine

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    end_with_parent()
    keep_little()
    os.nice(5)
    # While the database is away there is nothing to tell; the next one goes on from the moment that was told last.
    with contextlib.suppress(FlinchError, DBAPIError):
        go_on(make_engine(url), threading.Event())


def _make_market(url: str, first_is_there: Event, go_on: Event) -> None:
    from flinch.feeds.load_simulated import load_first, load_rest
    from flinch.store.engine import make_engine

    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the parent, which ends this process
    end_with_parent()
    engine, progress = make_engine(url), ProgressLines()
    simulation, market = load_first(engine, progress)
    first_is_there.set()
    # The version is read whole before rows of the next one come.
    go_on.wait()
    os.nice(10)
    load_rest(engine, simulation, market, ProgressLines(quietly=True))
    print("  demo market: the rest is there too", flush=True)


class ProgressLines:
    """One line a stage: rewritten in place on a terminal, unless it goes on `quietly`, and printed once when done."""

    def __init__(self, *, quietly: bool = False) -> None:
        self._began: dict[str, float] = {}
        self._terminal = sys.stdout.isatty() and not quietly

    def __call__(self, stage: str, share: float) -> None:
        began = self._began.setdefault(stage, time.monotonic())
        if share < 1.0:
            if self._terminal:
                print(f"\r  demo market: {stage:<11}{100 * share:4.0f} %", end="", flush=True)
            return
        start = "\r" if self._terminal else ""
        print(f"{start}  demo market: {stage:<11}done in {time.monotonic() - began:.1f} s", flush=True)


def _serve(
    server: LocalServer, port: int, began: float, maker: Maker | None, market: str | None, speed: int | None
) -> None:
    """Serve in this process; the exchange goes on in another one when it is to, and a database server that dies meanwhile is
    started again. The `maker` of a new market goes on when its first version is held; `market` is read before who asks for it."""
    from sqlalchemy.exc import DBAPIError

    from flinch.app import create_app
    from flinch.errors import FlinchError
    from flinch.market import warm
    from flinch.serving import make_server
    from flinch.settings import Settings
    from flinch.web import Services

    folder = server.folder.parent
    app = create_app(Settings(columns=folder / "columns", inbox=folder / "inbox"), server.databases)
    services: Services = app.extensions["flinch"]
    web = make_server(app, HOST, port)

    def prepare() -> None:
        # What the first hand would otherwise wait for. Whatever fails here, when Flinch is stopped meanwhile for one, is tried
        # and told again by the first request that needs it.
        with contextlib.suppress(Exception):
            held = None
            # One that is empty has no version, and its pages say so.
            with contextlib.suppress(FlinchError):
                held = None if market is None else services.markets.open(market).holder.current()
            # The version is read whole, so that rows of the next one may come.
            if maker is not None:
                maker.go_on.set()
            say_when_it_answers(port, began, "/api/markets" if held is None else "/api/market")
            services.jobs.take_up()
            # What has to be compiled on this machine is compiled now, and not under somebody's first rule.
            if held is not None:
                warm(held, lambda share: None)
            services.watcher.begin()
            give_back()
            recover_others(server.databases)
        if maker is not None:
            maker.go_on.set()

    going_on = GoingOn(server.market_url, speed)

    def watch() -> None:
        for second in itertools.count():
            if stopped.wait(1.0):
                return
            if second % 10 == 0:
                give_back()
            with contextlib.suppress(ServerFailed):
                if server.restart_if_down():
                    print("  the database server had ended; it was started again", flush=True)
            with contextlib.suppress(FlinchError, DBAPIError):
                going_on.look()
            if maker is not None and maker.process.exitcode and not told.is_set():
                told.set()
                print("  the rest of the demo market could not be made; the next start makes it afresh", flush=True)

    stopped, told = threading.Event(), threading.Event()
    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    threading.Thread(target=prepare, daemon=True).start()
    try:
        web.run()
    finally:
        stopped.set()
        going_on.stop()
        services.watcher.close()
        services.live.close()
        services.jobs.close()
        services.files.close()
        services.inbox.close()
        web.close()
        watcher.join(10)


def recover_others(databases: Databases) -> None:
    """Finish what imports into other markets left that were ended while they wrote."""
    from flinch.feeds.files.importing import recover
    from flinch.store.engine import make_engine
    from flinch.store.migrate import migrate_market

    for name in databases.markets():
        if name != DEMO:
            engine = make_engine(databases.market_url(name))
            try:
                migrate_market(engine)
                recover(engine)
            except Exception as error:
                print(f"  what an import left of the market {name} could not be finished: {error}", flush=True)
            engine.dispose()


def say_when_it_answers(port: int, began: float, behind: str = "/api/market") -> None:
    """Print the address once a page and what is `behind` it answer."""
    for path in ("/", behind):
        with urllib.request.urlopen(f"http://{HOST}:{port}{path}", timeout=30) as answer:
            answer.read()
    print(f"\nFlinch is at http://{HOST}:{port}/   ({time.monotonic() - began:.1f} s; Ctrl-C stops it)", flush=True)


@contextlib.contextmanager
def _alone(folder: Path) -> Iterator[None]:
    try:
        with only_one(folder):
            yield
    except AlreadyRunning as error:
        raise CannotStart(str(error)) from None


def _require_free(port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((HOST, port))
        except OSError:
            raise CannotStart(f"Port {port} is in use. Choose another: scripts/demo --port {port + 1}") from None
