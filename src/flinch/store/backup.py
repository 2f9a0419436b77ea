"""All that is kept, in one file, and back: a ZIP with the rows of every table as Parquet, and an index of them.

Each database is written as it was at one moment, whatever is written to it meanwhile, and brought back under the revision of its
tables that it was written at, which is then brought up to date. What a file holds is data alone.
"""

from __future__ import annotations

import datetime as dt
import io
import json
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

import polars as pl
from alembic.migration import MigrationContext
from sqlalchemy import Column, Connection, Double, Engine, Float, Table, inspect
from sqlalchemy import text as sql

from flinch.errors import FlinchError
from flinch.store.bulk import add_rows, load_all
from flinch.store.databases import Databases
from flinch.store.engine import make_engine, told
from flinch.store.market.models import MarketBase
from flinch.store.migrate import copy_aside, revisions, upgrade
from flinch.store.owned.models import OwnedBase

FORMAT = 1
_INDEX, _OWNED = "index.json", "owned"
_LARGEST_INDEX = 4 << 20
_ROWS, _FAT_ROWS = 100_000, 500
_METADATA = {"owned": OwnedBase.metadata, "market": MarketBase.metadata}
_LAST = "market_state"
"""The table that says that a market is there: it comes back when all others have."""


class NoBackup(FlinchError):
    """A file cannot be brought back, or one cannot be written."""

    status, kind = 422, "no_backup"


class Held(NamedTuple):
    """What a file holds of a part ("owned", or a market's name): the revision of its tables, and how many rows each has."""

    part: str
    revision: str
    rows: dict[str, int]


def write_backup(databases: Databases, path: Path, markets: list[str]) -> list[Held]:
    """Write what users own, and markets, into a file. Raises NoBackup when there is one."""
    if path.exists():
        raise NoBackup(f"There is a file {path} already: give another name. Nothing was written.")
    making = path.with_name(f".{path.name}.making")
    held = []
    try:
        with zipfile.ZipFile(making, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
            parts = [(_OWNED, databases.owned_url), *[(name, databases.market_url(name)) for name in markets]]
            for part, url in parts:
                engine = make_engine(url)
                held.append(_write_part(archive, engine, part))
                engine.dispose()
            index = {"format": FORMAT, "parts": [one._asdict() for one in held]}
            archive.writestr(_INDEX, json.dumps(index, indent=1))
        making.rename(path)
    finally:
        making.unlink(missing_ok=True)
    return held


def _write_part(archive: zipfile.ZipFile, engine: Engine, part: str) -> Held:
    tables = _METADATA["owned" if part == _OWNED else "market"].sorted_tables
    rows = dict.fromkeys((table.name for table in tables), 0)
    with told(), engine.connect() as connection:
        connection.exec_driver_sql("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        connection.exec_driver_sql("START TRANSACTION WITH CONSISTENT SNAPSHOT")
        revision = MigrationContext.configure(connection).get_current_revision()
        for table in tables:
            for place, piece in enumerate(_pieces(connection, table)):
                file = io.BytesIO()
                piece.write_parquet(file, compression="zstd")
                archive.writestr(f"{part}/{table.name}/{place:06}.parquet", file.getvalue())
                rows[table.name] += piece.height
    return Held(part, str(revision), {name: count for name, count in rows.items() if count})


def _pieces(connection: Connection, table: Table) -> Iterator[pl.DataFrame]:
    schema = {column.name: _DTYPES[column.type.python_type] for column in table.columns}
    # The text of a number in single precision has too few digits; that of the same one in double has all.
    wanted = ", ".join(
        f"`{column.name}` + 0e0 AS `{column.name}`" if _is_single(column) else f"`{column.name}`"
        for column in table.columns
    )
    key = ", ".join(f"`{column.name}`" for column in table.columns if column.primary_key)
    fat = any(kind == pl.Binary for kind in schema.values())
    answer = connection.execution_options(stream_results=True).exec_driver_sql(
        f"SELECT {wanted} FROM `{table.name}` ORDER BY {key}"
    )
    while rows := answer.fetchmany(_FAT_ROWS if fat else _ROWS):
        yield pl.DataFrame([tuple(row) for row in rows], schema, orient="row")


def _is_single(column: Column[Any]) -> bool:
    return isinstance(column.type, Float) and not isinstance(column.type, Double)


_DTYPES: dict[type, Any] = {
    bool: pl.Int64, int: pl.Int64, float: pl.Float64, dt.datetime: pl.Datetime("us"), dt.date: pl.Date, str: pl.String,
    object: pl.String, bytes: pl.Binary,
}  # fmt: skip
"""How a file holds what the driver gives for a column, by the column's sort in Python; JSON, any object, is its text."""


def read_index(path: Path) -> list[Held]:
    """What a file holds. Raises NoBackup."""
    try:
        with zipfile.ZipFile(path) as archive:
            if archive.getinfo(_INDEX).file_size > _LARGEST_INDEX:
                raise NoBackup(f"{path.name} is no backup of Flinch.")
            index = json.loads(archive.read(_INDEX))
        if index["format"] != FORMAT:
            raise NoBackup(f"{path.name} was written by a newer Flinch: use that one.")
        return [Held(str(one["part"]), str(one["revision"]), dict(one["rows"])) for one in index["parts"]]
    except OSError as error:
        raise NoBackup(f"{path} cannot be read: {error.strerror}.") from None
    except (zipfile.BadZipFile, KeyError, ValueError, TypeError):
        raise NoBackup(f"{path.name} is no backup of Flinch, or only a part of one.") from None


def restore_market(databases: Databases, path: Path, held: Held) -> None:
    """Bring a market back. Raises NoBackup when it cannot be, MarketTaken when there is one of its name that holds anything."""
    _require_known(path, held, "market")
    if not holds_anything(databases, held.part):
        databases.remove_market(held.part)
    databases.make_market(held.part)
    engine = make_engine(databases.market_url(held.part))
    try:
        _restore(engine, path, held, "market")
    except BaseException:
        databases.remove_market(held.part)
        raise
    finally:
        engine.dispose()


def restore_owned(databases: Databases, path: Path, held: Held, aside: Path) -> Path:
    """Put what users own in a file in the place of what is there, which is written into the folder `aside` before; returns
    where."""
    _require_known(path, held, "owned")
    tables = OwnedBase.metadata.sorted_tables
    # Beside what is there, brought up to date, and put in its place at once.
    with databases.beside("restored") as url:
        beside, owned = make_engine(url), make_engine(databases.owned_url)
        try:
            _restore(beside, path, held, "owned")
            with told(), owned.connect() as connection:
                kept = copy_aside(connection, aside, "restore")
            with told(), beside.connect() as connection:
                rows = ((table.name, piece) for table in tables for piece in _pieces(connection, table))
                load_all(owned, [table.name for table in tables], rows)
        finally:
            beside.dispose()
            owned.dispose()
    return kept


def holds_anything(databases: Databases, name: str) -> bool:
    """Whether anything was ever loaded into a market; not when there is none, or it was only half brought back."""
    if name not in databases.markets():
        return False
    engine = make_engine(databases.market_url(name))
    with told(), engine.connect() as connection:
        there = inspect(connection).get_table_names()
        found = _LAST in there and connection.execute(sql(f"SELECT 1 FROM `{_LAST}` LIMIT 1")).first() is not None
    engine.dispose()
    return found


def _require_known(path: Path, held: Held, tree: str) -> None:
    if held.revision not in revisions(tree):
        raise NoBackup(f"{path.name} was written by a newer Flinch: use that one.")


def _restore(engine: Engine, path: Path, held: Held, tree: str) -> None:
    """Lay the rows of a part into tables that are made as they were then, and bring them up to date. Raises NoBackup."""
    with told(), engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        upgrade(connection, tree, held.revision)
        about = inspect(connection)
        known = {table: {column["name"] for column in about.get_columns(table)} for table in about.get_table_names()}
        for table in known.keys() - {"alembic_version"}:
            # Some begin with rows.
            connection.exec_driver_sql(f"DELETE FROM `{table}`")
    unknown = set(held.rows) - known.keys()
    if unknown:
        raise NoBackup(f"{path.name} has a table {min(unknown)[:40]!r}, which there is none of.")
    try:
        with zipfile.ZipFile(path) as archive:
            for table, rows in _rows(archive, path, held, known):
                add_rows(engine, table, rows)
    except (zipfile.BadZipFile, pl.exceptions.PolarsError, EOFError, OSError) as error:
        raise NoBackup(f"{path.name} is broken, or only a part: {str(error)[:120]}") from None
    with told(), engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        upgrade(connection, tree)


def _rows(
    archive: zipfile.ZipFile, path: Path, held: Held, known: dict[str, set[str]]
) -> Iterator[tuple[str, pl.DataFrame]]:
    """The rows of every table, the one last that says that the others are there."""
    members = sorted(name for name in archive.namelist() if name.startswith(f"{held.part}/"))
    for table in sorted(held.rows, key=lambda name: name == _LAST):
        count = 0
        for member in members:
            if member.split("/")[1] == table:
                rows = pl.read_parquet(io.BytesIO(archive.read(member)))
                if not set(rows.columns) <= known[table]:
                    raise NoBackup(f"{path.name} has columns that the table {table} has not.")
                count += rows.height
                yield table, rows
        if count != held.rows[table]:
            raise NoBackup(f"{path.name} has {count} rows of {table} where {held.rows[table]} were written.")
