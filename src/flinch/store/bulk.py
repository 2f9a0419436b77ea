"""Loading many rows at once."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import polars as pl
from sqlalchemy import Connection, Engine
from sqlalchemy.orm import DeclarativeBase

from flinch.store.engine import loading
from flinch.store.market.models import MarketBase, MarketJob, MarketSetting, MarketState


def replace_rows(engine: Engine, table: type[DeclarativeBase], rows: pl.DataFrame) -> None:
    """Write `rows` to `table`; a row whose natural key is there already takes its place.

    Columns of the frame are columns of the table; null and NaN become NULL.
    """
    # The rows come sorted and whole from our own code; checking them one by one takes most of the time.
    with loading(engine) as connection, _unchecked(connection):
        _send(connection, table.__tablename__, rows)


def add_rows(engine: Engine, table: str, rows: pl.DataFrame) -> None:
    """As `replace_rows`, into a table by its name."""
    with loading(engine) as connection, _unchecked(connection):
        _send(connection, table, rows)


def load_all(engine: Engine, tables: Sequence[str], rows: Iterator[tuple[str, pl.DataFrame]]) -> None:
    """Let these rows be all that tables have, in one transaction: nothing is changed when it fails."""
    with loading(engine) as connection, _unchecked(connection):
        for table in tables:
            connection.exec_driver_sql(f"DELETE FROM `{table}`")
        for table, some in rows:
            _send(connection, table, some)


def remove_rows(engine: Engine, table: type[DeclarativeBase], keys: pl.DataFrame) -> None:
    """Remove the rows of these natural keys from `table`; one that is not there is no mistake."""
    columns = ", ".join(f"`{name}`" for name in keys.columns)
    with loading(engine) as connection:
        connection.exec_driver_sql(
            f"CREATE TEMPORARY TABLE going (PRIMARY KEY ({columns})) SELECT {columns} FROM `{table.__tablename__}` LIMIT 0"
        )
        _send(connection, "going", keys)
        with _unchecked(connection):
            connection.exec_driver_sql(f"DELETE one FROM `{table.__tablename__}` one JOIN going USING ({columns})")


def _send(connection: Connection, table: str, rows: pl.DataFrame) -> None:
    clean = rows.with_columns(
        [pl.col(name).cast(pl.Int8) for name, kind in rows.schema.items() if kind == pl.Boolean]
        + [pl.col(name).fill_nan(None) for name, kind in rows.schema.items() if kind.is_float()]
        + [pl.col(name).bin.encode("hex") for name, kind in rows.schema.items() if kind == pl.Binary]
    )
    with tempfile.NamedTemporaryFile(suffix=".tsv") as file:
        # Text is quoted and the bare word NULL is not, so no text can be taken for a missing value.
        clean.write_csv(
            file.name,
            separator="\t",
            include_header=False,
            null_value="NULL",
            quote_style="non_numeric",
            datetime_format="%Y-%m-%d %H:%M:%S%.6f",
        )
        # Bytes travel as their hexadecimal digits.
        binary = [name for name, kind in rows.schema.items() if kind == pl.Binary]
        columns = ", ".join(f"@{name}" if name in binary else f"`{name}`" for name in rows.columns)
        restored = ", ".join(f"`{name}` = UNHEX(@{name})" for name in binary)
        statement = (
            f"LOAD DATA LOCAL INFILE '{Path(file.name).as_posix()}' REPLACE INTO TABLE `{table}` "
            f"CHARACTER SET utf8mb4 FIELDS TERMINATED BY '\\t' OPTIONALLY ENCLOSED BY '\"' ESCAPED BY '' ({columns})"
            + (f" SET {restored}" if restored else "")
        )
        connection.exec_driver_sql(statement.replace("%", "%%"))


def empty_market(engine: Engine) -> None:
    """Remove all of a market but the rows that say what it is, what is loaded and what was done."""
    # Emptying a table whole takes no time, however many rows it has.
    with engine.begin() as connection, _unchecked(connection):
        for table in MarketBase.metadata.sorted_tables:
            if table not in (MarketState.__table__, MarketSetting.__table__, MarketJob.__table__):
                connection.exec_driver_sql(f"TRUNCATE TABLE `{table.name}`")


@contextmanager
def _unchecked(connection: Connection) -> Iterator[None]:
    """Without the checks of keys; they are on again afterwards, because the connection goes back to those who need them."""
    connection.exec_driver_sql("SET SESSION foreign_key_checks = 0, unique_checks = 0")
    try:
        yield
    finally:
        if not connection.invalidated:
            connection.exec_driver_sql("SET SESSION foreign_key_checks = 1, unique_checks = 1")
