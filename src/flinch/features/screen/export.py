"""Results as a file, with the rules and the session they belong to."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from flask import Response
from sqlalchemy import Engine

from flinch.core.gamma import DEFAULT_RULE, RULE_WORDS
from flinch.core.rules import series_keys
from flinch.core.rules.catalogue import SIGNED
from flinch.features.screen.schemas import ExportRequest
from flinch.feeds.export import Cell, Heading
from flinch.market import Dictionary, View
from flinch.screening.columns import Described, NamedColumn, read_columns
from flinch.screening.groups import universe
from flinch.screening.order import ordered
from flinch.screening.run import run_stack
from flinch.store.owned.owners import Whose
from flinch.web.files import MOST_ROWS, Table, at_the_exchange, hand_over


def as_file(
    view: View,
    engine: Engine,
    whose: Whose,
    dictionary: Dictionary,
    own: dict[str, Described],
    request: ExportRequest,
) -> Response:
    """Every survivor with the columns asked for, in the order asked for."""
    start = universe(view, engine, whose, request.stack.universe)
    ran = run_stack(view, dictionary, request.stack, start)
    columns = read_columns(view, dictionary, own, request.columns)
    rows = ordered(view, np.flatnonzero(ran.result.survivors), request.sort, dictionary, own)
    names = view.frame.names
    headings = [Heading("symbol", "Symbol", "", 0), Heading("company", "Company", "", 0)]
    headings += [Heading(c.described.key, c.described.label, c.described.unit, c.described.decimals) for c in columns]
    written = rows[:MOST_ROWS].tolist()
    table: Iterator[list[Cell]] = (
        [names[row].symbol, names[row].company, *[_cell(column, row) for column in columns]] for row in written
    )
    moment = at_the_exchange(view.as_of) if view.ends_version else f"{view.today}, at the close"
    notes = [
        ("universe", f"{request.stack.universe}: {int(ran.universe.sum())} names"),
        ("survivors", str(int(ran.result.survivors.sum()))),
    ]
    used = [column.node for column in columns] + [rule.expression.node for rule in ran.rules if rule.expression]
    if any(node is not None and series_keys(node) & SIGNED for node in used):
        notes.append(("sign of exposure", f"assumed, not measured: {RULE_WORDS[DEFAULT_RULE]}"))
    return hand_over(
        Table(headings, table, len(written), rows.size), view, ran, kind="screen", title=request.name, form=request.format,
        moment=moment, notes=notes,
    )  # fmt: skip


def _cell(column: NamedColumn, row: int) -> Cell:
    if column.texts is not None:
        return str(column.texts[row]) or None
    value = float(column.values[row])
    if column.described.kind == "condition":
        return None if np.isnan(value) else bool(value)
    return value
