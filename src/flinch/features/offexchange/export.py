"""Names among their levels, or the session's prints, as a file, with the rules and the window they belong to."""

from __future__ import annotations

from flask import Response

from flinch.clock import wall
from flinch.features.offexchange.schemas import PrintsExport
from flinch.features.offexchange.service import Found, name_teller, ordered, session_prints
from flinch.feeds.export import Cell, Heading, Sheet
from flinch.screening.notes import RULE_HEADINGS, rule_rows
from flinch.web.files import sheet_file

MOST_EXPORTED = 20_000


def as_file(found: Found, request: PrintsExport) -> Response:
    """The names shown, or the session's prints of them, newest first; at most `MOST_EXPORTED`."""
    view = found.view
    headings, rows, total = _names(found, request.sort) if request.view == "names" else _prints(found)
    window = f"{view.date(found.first)} to {view.date(found.last)}" if found.kept else "no prints are kept"
    notes = [
        ("off-exchange", request.name),
        ("as of", f"{view.as_of:%Y-%m-%d %H:%M} New York"),
        ("window", window),
        ("levels from", f"{found.window.least:,.0f} {found.window.unit}"),
        ("universe", f"{request.stack.universe}: {int(found.ran.universe.sum())} names"),
        ("survivors", f"{found.survivors.size} names, {found.rows.size} of them looked at"),
        ("rows", f"{len(rows)} of {total}"),
        ("direction", "nobody says whether a print was bought or sold"),
        ("source", view.source),
        ("data version", str(view.data_version)),
        ("written", f"{wall():%Y-%m-%d %H:%M} UTC"),
    ]
    sheet = Sheet(request.name, headings, rows, notes, rule_rows(found.ran), RULE_HEADINGS)
    return sheet_file(sheet, "off-exchange", view.today, request.format)


_Table = tuple[list[Heading], list[list[Cell]], int]


def _names(found: Found, sort: str) -> _Table:
    order, tell = ordered(found, sort), name_teller(found)
    headings = [
        Heading("symbol", "Symbol", "", 0), Heading("company", "Company", "", 0), Heading("price", "Price", "$", 2),
        Heading("change_pct", "Today", "%", 2), Heading("position", "Position", "", 0), Heading("count", "Levels", "", 0),
        Heading("above", "Level above", "$", 2), Heading("above_pct", "To it", "%", 2), Heading("above_moves", "To it", "σ", 2),
        Heading("below", "Level below", "$", 2), Heading("below_pct", "To it", "%", 2), Heading("below_moves", "To it", "σ", 2),
        Heading("largest", "Largest level", "$", 2), Heading("largest_notional", "Its notional", "$", 0),
        Heading("share_pct", "Prints over volume", "%", 1), Heading("days_to_earnings", "Days to earnings", "days", 0),
        Heading("earnings_timing", "Earnings timing", "", 0), Heading("short_pct", "Short of float", "%", 1),
        Heading("short_change", "Change of short", "%", 1), Heading("days_to_ex_dividend", "Days to ex-dividend", "days", 0),
        Heading("next_dividend", "Next dividend", "$", 2),
    ]  # fmt: skip
    rows = [tell(row).model_dump() for row in order[:MOST_EXPORTED].tolist()]
    return headings, [[row[heading.key] for heading in headings] for row in rows], order.size


def _prints(found: Found) -> _Table:
    lines, whose = session_prints(found, 0, MOST_EXPORTED)
    headings = [
        Heading("symbol", "Symbol", "", 0), Heading("at", "Time", "UTC", 0), Heading("part", "Part of the day", "", 0),
        Heading("price", "Price", "$", 4), Heading("shares", "Shares", "shares", 0), Heading("notional", "Notional", "$", 0),
        Heading("prints", "Prints", "", 0), Heading("conditions", "Conditions", "", 0),
        Heading("share_pct", "Of the day's volume", "%", 2), Heading("away_pct", "From the price", "%", 2),
    ]  # fmt: skip
    rows: list[list[Cell]] = [
        [p.symbol, f"{p.at:%Y-%m-%d %H:%M:%S.%f}"[:-3], p.part, p.price, p.shares, p.notional, p.prints,
         ", ".join(p.conditions), p.share_pct, p.away_pct]
        for p in lines
    ]  # fmt: skip
    return headings, rows, whose.size
