"""The database connection."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from sqlalchemy import URL, Connection, Engine, NullPool, create_engine, event, make_url
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlalchemy.orm import ORMExecuteState, Session

from flinch.store.errors import DatabaseAway, DiskFull, OutcomeUnknown

ANSWER_SECONDS = 3
"""How long a server that serves pages waits for the database; loading waits longer."""
_LOADING_SECONDS = 600
_PLAIN = {"charset": "utf8mb4", "init_command": "SET time_zone='+00:00'", "ssl_disabled": True}
"""Of every connection. They go by a socket of this machine; reading its certificates would take longer than connecting."""
_NO_ROOM = (1021, 1114, 1041, 28)


def make_engine(url: str | URL, *, patient: bool = True) -> Engine:
    """Engine for `url`; pooled connections are checked before use, so a restarted server is not noticed.

    One that is not `patient` gives up after a few seconds, whether a connection, an answer or a free place in its pool is waited
    for, and opens no more connections than its pool holds.
    """
    seconds = _LOADING_SECONDS if patient else ANSWER_SECONDS
    return create_engine(
        url,
        pool_pre_ping=True,
        pool_size=8,
        max_overflow=10 if patient else 0,
        pool_timeout=30 if patient else ANSWER_SECONDS,
        connect_args={
            # No server that answers may ask for a file.
            "local_infile": False,
            "connect_timeout": ANSWER_SECONDS,
            "read_timeout": seconds,
            "write_timeout": seconds,
            **_PLAIN,
        },
    )


def as_known(engine: Engine, moment: dt.datetime) -> Engine:
    """The same database for who knows nothing after a moment: minutes, trades, prints, looks at the chains and surfaces of later
    are not read."""
    return engine.execution_options(flinch_known_until=moment.astimezone(dt.UTC).replace(tzinfo=None))


def known_until(engine: Engine) -> dt.datetime | None:
    """The moment, in UTC without a zone, after which nothing is read of a database; None where everything is."""
    until: dt.datetime | None = engine.get_execution_options().get("flinch_known_until")
    return until


def reader_url(engine: Engine) -> str:
    """Address for the columnar reader, which wants its own scheme."""
    url: URL = make_url(engine.url)
    query = {"socket": socket} if (socket := url.query.get("unix_socket")) else {}
    return url.set(drivername="mysql", query=query).render_as_string(hide_password=False)


@contextmanager
def loading(engine: Engine) -> Iterator[Connection]:
    """A transaction on a connection of its own that may send the server a file, for who writes many rows at once."""
    connect = {"local_infile": True, "connect_timeout": ANSWER_SECONDS} | {
        key: _LOADING_SECONDS for key in ("read_timeout", "write_timeout")
    }
    own = create_engine(engine.url, poolclass=NullPool, connect_args=connect | _PLAIN)
    with own.begin() as connection:
        yield connection


def is_away(error: DBAPIError) -> bool:
    """Whether an error means that the server is not there, rather than that the statement was wrong."""
    code = error.orig.args[0] if error.orig is not None and error.orig.args else 0
    return error.connection_invalidated or (
        isinstance(error, OperationalError | InterfaceError) and code in (0, 1053, 2002, 2003, 2006, 2013, 2014, 2055)
    )


def is_full(error: DBAPIError) -> bool:
    """Whether an error means that nothing can be written for want of room."""
    code = error.orig.args[0] if error.orig is not None and error.orig.args else 0
    return code in _NO_ROOM or "No space left" in str(error.orig) or "is full" in str(error.orig)


@contextmanager
def told() -> Iterator[None]:
    """A vanished server becomes `DatabaseAway`, a full disk `DiskFull`."""
    try:
        yield
    except DBAPIError as error:
        if is_full(error):
            raise DiskFull from error
        if is_away(error):
            raise DatabaseAway from error
        raise
    except PoolTimeout as error:
        raise DatabaseAway from error


@contextmanager
def transaction(engine: Engine, before_commit: Callable[[Session], None] | None = None) -> Iterator[Session]:
    """A session that commits at the end; see `told`. A server that vanishes while it commits changes leaves it open whether they
    were kept: `OutcomeUnknown`. `before_commit` is called where there are changes, and is part of them."""
    with told(), Session(engine) as session:
        changes = False

        @event.listens_for(session, "do_orm_execute")
        def executed(state: ORMExecuteState) -> None:
            nonlocal changes
            changes = changes or not state.is_select

        @event.listens_for(session, "after_flush")
        def flushed(*_: object) -> None:
            nonlocal changes
            changes = True

        with session.begin() as work:
            yield session
            session.flush()
            if changes and before_commit is not None:
                before_commit(session)
            try:
                work.commit()
            except DBAPIError as error:
                if changes and is_away(error):
                    raise OutcomeUnknown from error
                raise
