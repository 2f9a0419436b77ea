"""A first look at a file: its kind, its columns with a sample of their values, and what has to be said before it is loaded."""

from __future__ import annotations

import itertools
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import polars as pl
from sqlalchemy import Engine

from flinch.feeds.files.importing import Asked, recall, understood
from flinch.feeds.files.kinds import KINDS, MISSING
from flinch.feeds.files.matching import CannotMatch, guess_kind, lacking, match_columns
from flinch.feeds.files.reading import Batch, Table, open_table
from flinch.feeds.files.values import DAY_FORMATS, learn

_SAMPLE = 3
_LOOKED_AT = 20_000


class ColumnSeen(NamedTuple):
    """A column of a file: some of its values as they are written, ours that it is taken for, and how its values are read."""

    theirs: str
    sample: list[str]
    ours: str | None
    way: str | None


class Seen(NamedTuple):
    """A first look: the kind, how its columns are taken, columns that are wanted and not found, and what has to be said, about
    which column. It is of the file's first rows; a check reads all."""

    kind: str | None
    columns: list[ColumnSeen]
    lacking: list[str]
    question: str | None
    where: str | None
    asked: Asked


def look_at(engine: Engine, asked: Asked) -> Seen:
    """Look at a file. Raises BadFile."""
    table = open_table(asked.path, asked.kind)
    first = list(itertools.islice(table.batches(), 1))
    asked = recall(engine, asked, table.columns)
    try:
        kind = asked.kind or guess_kind(asked.path, table.columns)
    except CannotMatch as error:
        return Seen(None, _columns(table, first, {}, {}), [], str(error), None, asked)
    asked = replace(asked, kind=kind)
    matched: dict[str, str] = {}
    try:
        matched = match_columns(KINDS[kind], table.columns, asked.columns)
        understood(asked, table.columns)
        ways = learn(first, KINDS[kind], matched, asked.hints).ways
    except CannotMatch as error:
        lacks = lacking(KINDS[kind], matched)
        return Seen(kind, _columns(table, first, matched, {}), lacks, str(error), error.where, asked)
    return Seen(kind, _columns(table, first, matched, ways), [], None, None, asked)


def _columns(table: Table, first: list[Batch], matched: dict[str, str], ways: dict[str, str]) -> list[ColumnSeen]:
    ours = {their: our for our, their in matched.items()}
    rows = first[0].cells.head(_LOOKED_AT) if first else pl.DataFrame({name: [] for name in table.columns})
    return [
        ColumnSeen(name, _sample(rows[name]), ours.get(name), _WAYS.get(ways.get(ours.get(name, ""), "")))
        for name in table.columns
    ]


_WAYS = DAY_FORMATS | {
    "comma": "a comma before decimals", "offset": "with an offset", "s": "seconds since 1970", "ms": "milliseconds since 1970",
    "us": "microseconds since 1970", "ns": "nanoseconds since 1970",
}  # fmt: skip


def _sample(cells: pl.Series) -> list[str]:
    try:
        texts = cells.cast(pl.String)
    except pl.exceptions.PolarsError:
        return [str(cells.dtype)]
    there = texts.filter(texts.is_not_null() & ~texts.str.strip_chars().str.to_lowercase().is_in(list(MISSING)))
    return [text[:40] for text in there.unique(maintain_order=True).head(_SAMPLE).to_list()]


class Refused(NamedTuple):
    """A row that was refused: the line that it stood in, why, and its cells by the file's columns."""

    line: int
    reason: str
    columns: tuple[str, ...]
    cells: list[str]


def refused_rows(path: Path, most: int) -> list[Refused]:
    """The first rows of a file of refused ones. Raises BadFile."""
    if not path.exists():
        return []
    batch = next(iter(open_table(path).batches()), None)
    if batch is None:
        return []
    rows = batch.cells.head(most)
    cells = rows.drop("reason", "line")
    return [
        Refused(int(line), reason, tuple(cells.columns), ["" if one is None else str(one)[:60] for one in row])
        for line, reason, row in zip(rows["line"].to_list(), rows["reason"].to_list(), cells.rows(), strict=True)
    ]
