"""Bringing the schemas up to date with Alembic: a tree of migrations for a market, another for what users own.

The server keeps every change of a table at once, so one that was ended in the middle cannot be rolled back. It is gone on with
instead: every statement may be told again (`_repeatable`), and each revision is noted when it is whole.
"""

from __future__ import annotations

import datetime as dt
import gzip
import json
import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, MetaData, event, inspect, text

from flinch.clock import wall
from flinch.store.errors import CannotMigrate
from flinch.store.market.models import MarketBase
from flinch.store.market.settings import MarketSettings, begin_settings
from flinch.store.owned.models import OwnedBase

_HERE = Path(__file__).parent
_REPEATABLE = (
    (re.compile(r"^\s*CREATE TABLE (?!IF )", re.IGNORECASE), "CREATE TABLE IF NOT EXISTS "),
    (re.compile(r"^\s*CREATE (UNIQUE )?INDEX (?!IF )", re.IGNORECASE), r"CREATE \1INDEX IF NOT EXISTS "),
    (re.compile(r"^\s*DROP TABLE (?!IF )", re.IGNORECASE), "DROP TABLE IF EXISTS "),
    (re.compile(r"^\s*DROP INDEX (?!IF )", re.IGNORECASE), "DROP INDEX IF EXISTS "),
    (re.compile(r"^(\s*ALTER TABLE \S+ ADD COLUMN )(?!IF )", re.IGNORECASE), r"\1IF NOT EXISTS "),
    (re.compile(r"^(\s*ALTER TABLE \S+ DROP COLUMN )(?!IF )", re.IGNORECASE), r"\1IF EXISTS "),
)


_PATIENCE = 600
"""Seconds that another process may take."""


def migrate_market(engine: Engine, settings: MarketSettings | None = None) -> None:
    """Bring a market's database up to date; a new one gets these settings, or the usual ones."""
    _bring(engine, "market", MarketBase.metadata, None)
    with engine.begin() as connection:
        begin_settings(connection, settings or MarketSettings())


def migrate_owned(engine: Engine, aside: Path | None = None) -> None:
    """Bring the database of what users own up to date. What stands in it is written into the folder `aside` before."""
    _bring(engine, "owned", OwnedBase.metadata, aside)


def _bring(engine: Engine, tree: str, tables: MetaData, aside: Path | None) -> None:
    # Each statement counts when it is done, also the one that notes a revision.
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection, _alone(connection):
        noted = MigrationContext.configure(connection).get_current_revision()
        if noted is None:
            # An empty database gets the tables as they are now; a test holds that every migration in turn makes the same.
            _clear_half_made(connection)
            tables.create_all(connection)
            command.stamp(_config(connection, tree), "head")
            return
        scripts = ScriptDirectory.from_config(_config(connection, tree))
        if noted not in {script.revision for script in scripts.walk_revisions()}:
            raise CannotMigrate(
                f"the database was made by a newer Flinch (its tables are of revision {noted}): start that one again"
            )
        if noted == scripts.get_current_head():
            return
        if aside is not None:
            copy_aside(connection, aside, noted)
        upgrade(connection, tree)


@contextmanager
def _alone(connection: Connection) -> Iterator[None]:
    """Within it no other process brings the same database up to date."""
    lock = {"name": f"flinch migrates {connection.engine.url.database}"}
    for _ in range(_PATIENCE):
        if connection.execute(text("SELECT GET_LOCK(:name, 1)"), lock).scalar():
            break
    else:
        raise CannotMigrate("another process brings the same database up to date; start again when it has ended")
    try:
        yield
    finally:
        # Who is ended in the middle of a statement has no connection that could tell it; the server lets go of it with that.
        with suppress(Exception):
            connection.execute(text("SELECT RELEASE_LOCK(:name)"), lock)


def revisions(tree: str) -> list[str]:
    """The revisions of a tree, the newest first."""
    scripts = ScriptDirectory(str(_HERE / tree / "migrations"))
    return [script.revision for script in scripts.walk_revisions()]


def upgrade(connection: Connection, tree: str, to: str = "head") -> None:
    """Apply every migration of a tree ("market" or "owned") that the database lacks, up to one; also one begun before."""
    with _repeatable(connection):
        command.upgrade(_config(connection, tree), to)


def copy_aside(connection: Connection, folder: Path, revision: str) -> Path:
    """Write all rows of a database into a file of the folder, a table a line; returns its path. Five such files are kept."""
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    path = folder / f"before-{revision}-{wall():%Y%m%dT%H%M%S%f}.jsonl.gz"
    making = path.with_suffix(".part")
    with gzip.open(making, "wt", encoding="utf-8") as file:
        for table in sorted(inspect(connection).get_table_names()):
            rows = connection.execute(text(f"SELECT * FROM `{table}`")).mappings()
            file.write(json.dumps({"table": table, "rows": [dict(row) for row in rows]}, default=_plain) + "\n")
    making.rename(path)
    for old in sorted(folder.glob("before-*.jsonl.gz"), key=lambda kept: kept.stat().st_mtime)[:-5]:
        old.unlink()
    return path


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, dt.date | dt.datetime) else str(value)


def _clear_half_made(connection: Connection) -> None:
    """Remove tables that were being made when their maker was ended: they have no revision noted, and no rows."""
    there = inspect(connection).get_table_names()
    for table in there:
        if connection.execute(text(f"SELECT 1 FROM `{table}` LIMIT 1")).first() is not None:
            raise CannotMigrate(
                f"the table {table} has rows, and nothing says of which version it is: put back a copy of the database folder, "
                "or start again with --reset everything"
            )
    connection.execute(text("SET foreign_key_checks = 0"))
    for table in there:
        connection.execute(text(f"DROP TABLE IF EXISTS `{table}`"))
    connection.execute(text("SET foreign_key_checks = 1"))


@contextmanager
def _repeatable(connection: Connection) -> Iterator[None]:
    """Within it what is there already is not made again, and what is gone is not removed again."""

    def told(_connection: Any, _cursor: Any, statement: str, parameters: Any, *_: Any) -> tuple[str, Any]:
        for pattern, instead in _REPEATABLE:
            statement = pattern.sub(instead, statement)
        return statement, parameters

    event.listen(connection, "before_cursor_execute", told, retval=True)
    try:
        yield
    finally:
        event.remove(connection, "before_cursor_execute", told)


def _config(connection: Connection, tree: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(_HERE / tree / "migrations").replace("%", "%%"))
    config.attributes["connection"] = connection
    return config
