"""Columns of a list of names: what each is called and its values as of a session."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.rules import METRICS, STRUCTURE_METRICS, TICKETS, Metric, Node, RuleError
from flinch.core.rules.catalogue import Scale
from flinch.core.rules.evaluate import TextArray
from flinch.core.rules.nodes import Kind
from flinch.market import Dictionary, Stale, Table, View


class Described(NamedTuple):
    """How an expression is called and written."""

    key: str
    label: str
    short: str
    unit: str
    decimals: int
    kind: Kind
    scale: Scale = "linear"


def _described(metrics: dict[str, Metric]) -> dict[str, Described]:
    return {key: Described(key, m.label, m.short, m.unit, m.decimals, m.kind, m.scale) for key, m in metrics.items()}


TABLE_METRICS: dict[Table, dict[str, Described]] = {
    "names": {},
    "tickets": _described(TICKETS),
    "structures": _described(STRUCTURE_METRICS),
}
"""What a table of things has beside the metrics of names."""


def describe(text: str, own: dict[str, Described], kind: Kind) -> Described:
    """A metric of the catalogue or of the user's own; any other expression is called by its text."""
    if metric := METRICS.get(text):
        return Described(text, metric.label, metric.short, metric.unit, metric.decimals, metric.kind, metric.scale)
    return own.get(text) or Described(text, text, text, "", 2, kind)


class NamedColumn(NamedTuple):
    """One column; `error` says why it could not be read, its values are then missing."""

    described: Described
    error: str | None
    values: FloatArray
    texts: TextArray | None
    node: Node | None
    view: View

    def reasons(self, rows: IntArray) -> dict[int, str]:
        """Why some of the rows have no value."""
        if self.node is None:
            return {}
        missing = self.texts[rows] == "" if self.texts is not None else np.isnan(self.values[rows])
        if not missing.any():
            return {}
        reasons_by_row = self.view.reasons(self.node)
        return {int(row): reasons_by_row[int(row)] for row in rows[missing] if int(row) in reasons_by_row}

    def stale(self, rows: IntArray) -> dict[int, Stale]:
        """Which of some rows have a value that rests on figures older than they should be."""
        if self.node is None or self.texts is not None:
            return {}
        return self.view.ages(self.node, rows[np.isfinite(self.values[rows])])


def read_columns(view: View, dictionary: Dictionary, own: dict[str, Described], texts: list[str]) -> list[NamedColumn]:
    """Columns of a view, each text once; one that cannot be read carries its error."""
    return [_column(view, dictionary, own, text) for text in dict.fromkeys(texts)]


def _column(view: View, dictionary: Dictionary, own: dict[str, Described], text: str) -> NamedColumn:
    try:
        node = dictionary.read(text).node
    except RuleError as error:
        nothing = np.full(view.panel.names, np.nan)
        return NamedColumn(describe(text, own, "number"), error.message, nothing, None, None, view)
    column = view.column(node)
    return NamedColumn(describe(text, own, node.kind), None, column.values, column.texts, node, view)
