"""The database connection."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import URL, Engine, create_engine, make_url
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.orm import Session


class DatabaseAway(Exception):
    """The database does not answer. What was asked did not happen; asking again is safe."""


def make_engine(url: str) -> Engine:
    """Engine for `url`; pooled connections are checked before use, so a restarted server is not noticed."""
    return create_engine(
        url,
        pool_pre_ping=True,
        pool_size=8,
        connect_args={
            "local_infile": True,
            "connect_timeout": 3,
            "charset": "utf8mb4",
            "init_command": "SET time_zone='+00:00'",
        },
    )


def reader_url(engine: Engine) -> str:
    """Address for the columnar reader, which wants its own scheme."""
    url: URL = make_url(engine.url)
    return url.set(drivername="mysql").render_as_string(hide_password=False)


def is_away(error: DBAPIError) -> bool:
    """Whether an error means that the server is not there, rather than that the statement was wrong."""
    code = error.orig.args[0] if error.orig is not None and error.orig.args else 0
    return error.connection_invalidated or (
        isinstance(error, OperationalError | InterfaceError) and code in (0, 1053, 2002, 2003, 2006, 2013, 2014, 2055)
    )


@contextmanager
def transaction(engine: Engine) -> Iterator[Session]:
    """A session that commits at the end; a vanished server becomes `DatabaseAway`."""
    try:
        with Session(engine) as session, session.begin():
            yield session
    except DBAPIError as error:
        if is_away(error):
            raise DatabaseAway from error
        raise
