"""Surviving structures as a file, with the rules and the moment they belong to."""

from __future__ import annotations

from flask import Response

from flinch.clock import wall
from flinch.features.structures.schemas import StructuresExport
from flinch.features.structures.service import Found, column_of, lines
from flinch.feeds.export import Cell, Heading, Sheet
from flinch.market import Dictionary
from flinch.screening.columns import Described
from flinch.screening.notes import RULE_HEADINGS, rule_rows
from flinch.web.files import sheet_file

MOST_EXPORTED = 20_000
_USUAL = (
    "dte", "cost", "max_profit", "max_loss", "capital", "return_on_capital", "breakeven_below", "breakeven_above",
    "chance_of_profit_market", "chance_of_profit_past", "chance_of_profit_forecast", "shortfall_past", "edge_market",
    "edge_past", "edge_forecast", "delta", "theta", "vega", "min_leg_open_interest", "quoted_width",
)  # fmt: skip


def as_file(found: Found, things: Dictionary, own: dict[str, Described], request: StructuresExport) -> Response:
    """Structures that are left in their order, at most `MOST_EXPORTED` of them."""
    page = found.rows[:MOST_EXPORTED]
    told = lines(found, page)
    columns = [column_of(found.table, things, own, key, page) for key in dict.fromkeys(request.columns or _USUAL)]
    headings = [
        Heading("symbol", "Symbol", "", 0),
        Heading("structure", "Structure", "", 0),
        Heading("legs", "Legs", "", 0),
    ]
    headings += [Heading(c.key, c.label, c.unit, c.decimals) for c in columns]
    headings += [Heading("front", "On the front", "", 0), Heading("flags", "Flags", "", 0)]
    rows: list[list[Cell]] = []
    for i, line in enumerate(told):
        cells: list[Cell] = [line.symbol, line.label, line.key.split(" ", 1)[1]]
        cells += [c.texts[i] if c.texts else c.numbers[i] for c in columns]
        rows.append([*cells, "yes" if line.on_front else "", "; ".join(line.flags)])
    view, search = found.view, request.search
    notes = [
        ("structures", request.name),
        ("as of", f"{view.as_of:%Y-%m-%d %H:%M} New York"),
        ("names", f"{request.stack.universe}: {found.names}"),
        ("search", search.model_dump_json()),
        ("made", f"{found.table.size} structures"),
        ("survivors", f"{found.survivors.size}, {found.rows.size} of them in order, {len(rows)} written"),
        (
            "a chance",
            "is an opinion: market the fitted smile, past the name's own stretches, forecast a volatility and tail",
        ),
        ("source", view.source),
        ("data version", str(view.data_version)),
        ("written", f"{wall():%Y-%m-%d %H:%M} UTC"),
    ]
    sheet = Sheet(request.name, headings, rows, notes, rule_rows(found.ran), RULE_HEADINGS)
    return sheet_file(sheet, "structures", view.today, request.format)
