"""A source for Flinch in sixty lines: prices that a made-up harbour office writes into a database of its own.

Packaged with this in its pyproject.toml, it is found by its name:

    [project.entry-points."flinch.sources"]
    harbour = "harbour_source:make"

    flinch fetch harbour --market mine --set file=/data/harbour.sqlite
"""

from __future__ import annotations

import datetime as dt
import sqlite3
from collections.abc import Iterable, Mapping
from pathlib import Path

import polars as pl

_NAMES = "SELECT code AS symbol, title AS company, 'stock' AS type FROM ship ORDER BY code"
_BARS = """
    SELECT code AS symbol, day AS session, first AS open, top AS high, bottom AS low, last AS close, tons AS volume
    FROM price WHERE day >= ? ORDER BY day, code
"""


class HarbourSource:
    """Names and daily bars out of the office's database."""

    kinds = ("names", "daily_bars")

    def __init__(self, file: Path) -> None:
        self.file = file

    def fetch(self, kind: str, since: dt.date | None) -> Iterable[pl.DataFrame]:
        """Rows of a kind, a stretch at a time, from a day on; the last day that is held is told again, it may be corrected."""
        with sqlite3.connect(f"file:{self.file}?mode=ro", uri=True) as office:
            if kind == "names":
                yield self._frame(office.execute(_NAMES))
                return
            rows = office.execute(_BARS, ((since or dt.date(1900, 1, 1)).isoformat(),))
            while (frame := self._frame(rows, 100_000)).height:
                yield frame.with_columns(pl.col("session").str.to_date())

    @staticmethod
    def _frame(rows: sqlite3.Cursor, most: int = 1_000_000) -> pl.DataFrame:
        columns = [column for column, *_ in rows.description]
        return pl.DataFrame(rows.fetchmany(most), columns, orient="row", infer_schema_length=None)


def make(said: Mapping[str, str]) -> HarbourSource:
    """What Flinch calls, with what was said by --set."""
    file = Path(said["file"])
    if not file.is_file():
        raise ValueError(f"{file} is no file")
    return HarbourSource(file)
