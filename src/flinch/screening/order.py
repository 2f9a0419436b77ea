"""The order of a list of names."""

from __future__ import annotations

import numpy as np

from flinch.core.arrays import IntArray
from flinch.market import Dictionary, View
from flinch.screening.columns import Described, read_columns


def ordered(view: View, rows: IntArray, sort: list[str], dictionary: Dictionary, own: dict[str, Described]) -> IntArray:
    """Rows by up to two keys, `-` before one that falls; what has no value comes last whichever way."""
    for key in reversed(sort):
        name, falling = key.removeprefix("-"), key.startswith("-")
        if name in ("symbol", "company"):
            texts = np.array([getattr(view.frame.names[row], name) for row in rows], dtype=np.str_)
        else:
            column = read_columns(view, dictionary, own, [name])[0]
            if column.texts is None:
                values = column.values[rows]
                values = np.where(np.isnan(values), np.inf, -values if falling else values)
                rows = rows[np.argsort(values, kind="stable")]
                continue
            texts = column.texts[rows]
        # Backwards and back again, so that what is equal keeps its order in a falling one too.
        backwards = rows.size - 1 - np.argsort(texts[::-1], kind="stable")
        rows = rows[backwards[::-1] if falling else np.argsort(texts, kind="stable")]
    return rows
