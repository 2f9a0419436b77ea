"""Why rows are refused: a text a row, null where it is not."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl


def because(bad: pl.Series, words: str, cells: pl.Series | None = None) -> pl.Series:
    """These words for the rows that are bad, followed by their cells where those are given."""
    told = pl.lit(words) if cells is None else pl.lit(words) + pl.col("cell").cast(pl.String).str.slice(0, 40)
    frame = pl.DataFrame({"bad": bad.fill_null(False)} | ({} if cells is None else {"cell": cells}))
    return frame.select(pl.when("bad").then(told).cast(pl.String).alias("reason"))["reason"]


def first_of(reasons: Sequence[pl.Series]) -> pl.Series:
    """The first reason that each row has."""
    table = pl.DataFrame({str(place): reason for place, reason in enumerate(reasons)})
    return table.select(pl.coalesce(pl.all()).alias("reason"))["reason"]


def none_of(rows: int) -> pl.Series:
    """No reason for any of so many rows."""
    return pl.Series("reason", [None], pl.String).new_from_index(0, rows)
