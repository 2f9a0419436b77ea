"""Reading many rows at once, as columns."""

from __future__ import annotations

from typing import Any

import connectorx
import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import BigInteger, Boolean, Date, DateTime, Double, Engine, Integer, Select, SmallInteger, String
from sqlalchemy.dialects import mysql

from flinch.store.engine import reader_url, told
from flinch.store.errors import DatabaseAway

Floats = NDArray[np.float64]
Dates = NDArray[np.datetime64]


def dates(column: pl.Series) -> Dates:
    """A column of days."""
    return column.cast(pl.Date).to_numpy().astype("datetime64[D]")


def numbers(column: pl.Series) -> Floats:
    """A column of numbers, NaN where NULL."""
    return column.cast(pl.Float64).fill_null(np.nan).to_numpy()


def read_rows(engine: Engine, statement: Select[*tuple[Any, ...]]) -> pl.DataFrame:
    """The few rows of a query that a request asks for, by a connection of the pool; columns as from `read_table`."""
    with told(), engine.connect() as connection:
        rows = connection.execute(statement).all()
    schema = {str(column.key): _KINDS[type(column.type)] for column in statement.selected_columns}
    return pl.DataFrame([tuple(row) for row in rows], schema, orient="row")


_KINDS: dict[type, Any] = {
    Date: pl.Date,
    DateTime: pl.Datetime,
    Double: pl.Float64,
    Integer: pl.Int64,
    SmallInteger: pl.Int64,
    BigInteger: pl.Int64,
    Boolean: pl.Boolean,
    String: pl.String,
}


def read_table(engine: Engine, statement: Select[*tuple[Any, ...]]) -> pl.DataFrame:
    """Rows of a query as columns, without a Python object a cell."""
    sql = str(statement.compile(dialect=mysql.dialect(), compile_kwargs={"literal_binds": True})).replace("%%", "%")
    try:
        return connectorx.read_sql(reader_url(engine), sql, return_type="polars", protocol="binary")  # type: ignore[no-any-return]
    except RuntimeError as error:
        if "onnect" in str(error) or "timed out" in str(error):
            raise DatabaseAway from error
        raise
