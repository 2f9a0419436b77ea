"""Tables of things that belong to names (tickets, structures): how an expression is read of them."""

from __future__ import annotations

import threading
from abc import ABC, abstractmethod
from collections import OrderedDict
from collections.abc import Hashable

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray
from flinch.core.rules import (
    Categories,
    Node,
    Panel,
    Shape,
    Truth,
    Vocabulary,
    between,
    evaluate,
    name_parts,
    series_keys,
)
from flinch.market.dictionary import BarLength
from flinch.market.version import Column
from flinch.market.view import View

_MOST_BYTES = 32_000_000
"""Of columns that are kept beside the things."""
_RANGES = 10


class ThingTable(ABC):
    """Things of names, in rows: what rules ask of a thing is read of it, what they ask of its name is computed once a name.

    A table says what its texts may be (`labels`), which numbers it holds as they are asked for (`plain`), and reads a column.
    """

    vocabulary: Vocabulary
    labels: dict[str, tuple[str, ...]]
    plain: frozenset[str]

    def __init__(self, view: View, names_view: View, key: tuple[Hashable, ...]) -> None:
        self.view, self.names_view, self.key = view, names_view, key
        self._columns: OrderedDict[str, Column] = OrderedDict()
        self._lock = threading.Lock()

    @property
    @abstractmethod
    def size(self) -> int:
        """How many there are."""

    @property
    @abstractmethod
    def name(self) -> NDArray[np.int32]:
        """Row in the frame of each thing's name."""

    @abstractmethod
    def codes(self, key: str) -> NDArray[np.int8]:
        """A text column as places in its labels."""

    @abstractmethod
    def values(self, key: str) -> FloatArray:
        """A number or condition (1 or 0) that the catalogue reads of things, in its unit; NaN where there is none."""

    def several(self, keys: set[str]) -> dict[str, FloatArray]:
        """Columns that are made together with others; those that `values` reads are not among them."""
        return {}

    def column(self, node: Node, bars: BarLength = "day") -> Column:
        """An expression for every thing; `bars` is always of a day. What is held as it is asked for is not kept once more."""
        assert bars == "day"
        if node.op == "series" and node.kind == "number" and node.settings[0] in self.plain:
            return Column(self.values(str(node.settings[0])))
        with self._lock:
            if node.key in self._columns:
                self._columns.move_to_end(node.key)
                return self._columns[node.key]
        made = self._column(node)
        with self._lock:
            self._columns[node.key] = made
            while len(self._columns) > 1 and sum(map(_bytes, self._columns.values())) > _MOST_BYTES:
                self._columns.popitem(last=False)
        return made

    def between(self, subject: Node, shape: Shape, bars: BarLength = "day") -> Truth:
        """For which things the value of an expression lies between the edges of a range; kept for those that a hand does not
        move."""
        edges = (shape.lower, shape.upper, shape.lower_open, shape.upper_open)
        return self.view.version.keep(
            ("between", subject.key, edges, *self.key),
            lambda: between(self.column(subject, bars).values, shape),
            _RANGES,
        )

    def _column(self, node: Node) -> Column:
        tree, parts = name_parts(node, self.vocabulary.momentary)
        keys = series_keys(tree)
        series = {key: values[:, None] for key, values in self.several(keys).items()}
        texts: dict[str, Categories] = {}
        for key in keys - set(series):
            if key in parts:
                column = self.names_view.column(parts[key])
                if column.texts is not None:
                    labels, code = np.unique(column.texts, return_inverse=True)
                    known = np.where(column.texts == "", -1, code)
                    texts[key] = Categories(known.astype(np.int16)[self.name], tuple(labels.tolist()))
                else:
                    series[key] = column.values[self.name][:, None]
            elif key in self.labels:
                texts[key] = Categories(self.codes(key), self.labels[key])
            else:
                series[key] = self.values(key)[:, None]
        if not self.size:
            empty = np.empty(0, np.bool_)
            truth = Truth(empty, empty) if node.kind == "condition" else None
            return Column(
                np.empty(0), truth, None, Categories(np.empty(0, np.int8), ()) if node.kind == "text" else None
            )
        value = evaluate([tree], Panel(self.size, 1, series, texts), 0, 1)[0]
        if isinstance(value, Categories):
            return Column(np.empty(0), None, None, value)
        if isinstance(value, Truth):
            truth = Truth(np.ascontiguousarray(value.yes[:, 0]), np.ascontiguousarray(value.no[:, 0]))
            # Half precision knows one, zero and nothing well enough.
            return Column(np.where(truth.yes, 1.0, np.where(truth.no, 0.0, np.nan)).astype(np.float16), truth)
        return Column(np.ascontiguousarray(np.asarray(value, np.float64)[:, 0]))


def _bytes(column: Column) -> int:
    """Bytes that a column takes."""
    told = 0 if column.truth is None else column.truth.yes.nbytes + column.truth.no.nbytes
    return int(column.values.nbytes + told + (0 if column.categories is None else column.categories.codes.nbytes))
