"""Reading many rows at once, as columns."""

from __future__ import annotations

from typing import Any

import connectorx
import polars as pl
from sqlalchemy import Engine, Select
from sqlalchemy.dialects import mysql

from flinch.store.engine import DatabaseAway, reader_url


def read_table(engine: Engine, statement: Select[*tuple[Any, ...]]) -> pl.DataFrame:
    """Rows of a query as columns, without a Python object a cell."""
    sql = str(statement.compile(dialect=mysql.dialect(), compile_kwargs={"literal_binds": True})).replace("%%", "%")
    try:
        return connectorx.read_sql(reader_url(engine), sql, return_type="polars", protocol="binary")  # type: ignore[no-any-return]
    except RuntimeError as error:
        if "onnect" in str(error) or "timed out" in str(error):
            raise DatabaseAway from error
        raise
