"""Surviving structures as a file, with the rules and the moment they belong to."""

from __future__ import annotations

from collections.abc import Iterator

from flask import Response

from flinch.core.arrays import IntArray
from flinch.features.structures.schemas import StructureColumn, StructuresExport
from flinch.features.structures.service import Found, column_of, lines
from flinch.feeds.export import Cell, Heading
from flinch.market import Dictionary
from flinch.screening.columns import Described
from flinch.web.files import MOST_ROWS, Table, at_the_exchange, hand_over, in_parts

_USUAL = (
    "dte", "cost", "max_profit", "max_loss", "capital", "return_on_capital", "breakeven_below", "breakeven_above",
    "chance_of_profit_market", "chance_of_profit_past", "chance_of_profit_forecast", "shortfall_past", "edge_market",
    "edge_past", "edge_forecast", "delta", "theta", "vega", "min_leg_open_interest", "quoted_width",
)  # fmt: skip


def as_file(found: Found, things: Dictionary, own: dict[str, Described], request: StructuresExport) -> Response:
    """Structures that are left, in their order."""
    page = found.rows[:MOST_ROWS]
    keys = tuple(dict.fromkeys(request.columns or _USUAL))

    def columns(rows: IntArray) -> list[StructureColumn]:
        return [column_of(found.table, things, own, key, rows) for key in keys]

    headings = [
        Heading("symbol", "Symbol", "", 0),
        Heading("structure", "Structure", "", 0),
        Heading("legs", "Legs", "", 0),
    ]
    headings += [Heading(c.key, c.label, c.unit, c.decimals) for c in columns(page[:0])]
    headings += [Heading("front", "On the front", "", 0), Heading("flags", "Flags", "", 0)]

    def part(first: int, end: int) -> Iterator[list[Cell]]:
        rows = page[first:end]
        values = columns(rows)
        for i, line in enumerate(lines(found, rows)):
            cells: list[Cell] = [line.symbol, line.label, line.key.split(" ", 1)[1]]
            cells += [c.texts[i] if c.texts else c.numbers[i] for c in values]
            yield [*cells, "yes" if line.on_front else "", "; ".join(line.flags)]

    view = found.view
    notes = [
        ("names", f"{request.stack.universe}: {found.names}"),
        ("search", request.search.model_dump_json()),
        ("made", f"{found.table.size} structures"),
        ("survivors", f"{found.survivors.size}, {found.rows.size} of them in order"),
        (
            "a chance",
            "is an opinion: market the fitted smile, past the name's own stretches, forecast a volatility and tail",
        ),
    ]
    table = Table(headings, in_parts(page.size, part), page.size, found.rows.size)
    return hand_over(
        table,
        view,
        found.ran,
        kind="structures",
        title=request.name,
        form=request.format,
        moment=at_the_exchange(view.as_of),
        notes=notes,
    )
