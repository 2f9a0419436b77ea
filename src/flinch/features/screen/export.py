"""Results as a file, with the rules and the session they belong to."""

from __future__ import annotations

import numpy as np
from flask import Response
from sqlalchemy import Engine

from flinch.clock import wall
from flinch.core.gamma import DEFAULT_RULE, RULE_WORDS
from flinch.core.rules import series_keys
from flinch.core.rules.catalogue import SIGNED
from flinch.features.screen.schemas import ExportRequest
from flinch.feeds.export import Cell, Heading, Sheet
from flinch.market import Dictionary, View
from flinch.screening.columns import Described, NamedColumn, read_columns
from flinch.screening.groups import universe
from flinch.screening.notes import RULE_HEADINGS, rule_rows
from flinch.screening.order import ordered
from flinch.screening.run import Ran, run_stack
from flinch.web.files import sheet_file


def as_file(
    view: View,
    engine: Engine,
    owner: int,
    dictionary: Dictionary,
    own: dict[str, Described],
    request: ExportRequest,
) -> Response:
    """Every survivor with the columns asked for, in the order asked for."""
    start = universe(view, engine, owner, request.stack.universe)
    ran = run_stack(view, dictionary, request.stack, start)
    columns = read_columns(view, dictionary, own, request.columns)
    rows = ordered(view, np.flatnonzero(ran.result.survivors), request.sort, dictionary, own)
    names = view.frame.names
    headings = [Heading("symbol", "Symbol", "", 0), Heading("company", "Company", "", 0)]
    headings += [Heading(c.described.key, c.described.label, c.described.unit, c.described.decimals) for c in columns]
    table: list[list[Cell]] = [
        [names[row].symbol, names[row].company, *[_cell(column, int(row)) for column in columns]] for row in rows
    ]
    notes = _notes(view, request, ran)
    used = [column.node for column in columns] + [rule.expression.node for rule in ran.rules if rule.expression]
    if any(node is not None and series_keys(node) & SIGNED for node in used):
        notes.append(("sign of exposure", f"assumed, not measured: {RULE_WORDS[DEFAULT_RULE]}"))
    sheet = Sheet(request.name, headings, table, notes, rule_rows(ran), RULE_HEADINGS)
    return sheet_file(sheet, "screen", view.today, request.format)


def _cell(column: NamedColumn, row: int) -> Cell:
    if column.texts is not None:
        return str(column.texts[row]) or None
    value = float(column.values[row])
    if column.described.kind == "condition":
        return None if np.isnan(value) else bool(value)
    return value


def _notes(view: View, request: ExportRequest, ran: Ran) -> list[tuple[str, str]]:
    moment = f"{view.as_of:%Y-%m-%d %H:%M} New York" if view.is_newest else f"{view.today}, at the close"
    return [
        ("screen", request.name),
        ("as of", moment),
        ("universe", f"{request.stack.universe}: {int(ran.universe.sum())} names"),
        ("survivors", str(int(ran.result.survivors.sum()))),
        ("source", view.source),
        ("data version", str(view.data_version)),
        ("written", f"{wall():%Y-%m-%d %H:%M} UTC"),
    ]
