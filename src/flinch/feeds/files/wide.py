"""Chains that have a strike a row, calls on one side and puts on the other: each row becomes two."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import polars as pl

from flinch.feeds.files.matching import plain_word

_SIDES = {"call": "C", "calls": "C", "c": "C", "put": "P", "puts": "P", "p": "P"}
_FIRST = re.compile(r"^(calls?|puts?|c|p)_(.+)$")
_LAST = re.compile(r"^(.+)_(calls?|puts?|c|p)$")
_QUOTES = {"bid", "ask"}


class Wide(NamedTuple):
    """How the columns of two sides lie in a file, whose columns are `theirs`: those that both have in common, and for each other
    one, by what it is, the file's for calls and for puts."""

    theirs: list[str]
    shared: list[str]
    sided: dict[str, tuple[str | None, str | None]]

    @property
    def columns(self) -> list[str]:
        """The columns of the rows that are made."""
        return [*self.shared, "right", *self.sided]


def wide_columns(theirs: Sequence[str]) -> Wide | None:
    """How a file has calls and puts beside each other; None where it has not. Both sides have a bid and an ask at least."""
    found: dict[str, dict[str, str]] = {}
    for their in theirs:
        word = plain_word(their)
        told = _FIRST.match(word) or _LAST.match(word)
        if told is not None:
            side, what = told.groups() if told.group(1) in _SIDES else reversed(told.groups())
            found.setdefault(what, {})[_SIDES[side]] = their
    whole = {what for what, sides in found.items() if len(sides) == 2}
    if not whole >= _QUOTES or not any(plain_word(their) in ("strike", "strike_price", "k") for their in theirs):
        return None
    sided = {what: (sides.get("C"), sides.get("P")) for what, sides in found.items()}
    taken = {their for sides in sided.values() for their in sides}
    return Wide(list(theirs), [their for their in theirs if their not in taken], sided)


def unfolded(wide: Wide, cells: pl.DataFrame) -> tuple[pl.DataFrame, np.ndarray]:
    """Two rows of each, calls before puts, and the row that each was made of. A side that says nothing at all is no contract."""
    parts = []
    for place, right in enumerate(("C", "P")):
        values = [
            pl.lit(None).alias(what) if (their := sides[place]) is None else pl.col(their).alias(what)
            for what, sides in wide.sided.items()
        ]
        parts.append(cells.with_row_index("_row").select("_row", *wide.shared, pl.lit(right).alias("right"), *values))
    rows = pl.concat(parts, how="vertical_relaxed").sort("_row", maintain_order=True)
    said = pl.any_horizontal(pl.col(what).cast(pl.String).fill_null("").str.strip_chars() != "" for what in wide.sided)
    kept = rows.filter(said)
    return kept.select(wide.columns), kept["_row"].to_numpy()
