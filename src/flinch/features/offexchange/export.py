"""Names among their levels, or the session's prints, as a file, with the rules and the window they belong to."""

from __future__ import annotations

from flask import Response

from flinch.features.offexchange.schemas import PrintsExport
from flinch.features.offexchange.service import Found, name_teller, ordered, session_prints
from flinch.feeds.export import Cell, Heading
from flinch.web.files import MOST_ROWS, Table, at_the_exchange, hand_over, in_parts


def as_file(found: Found, request: PrintsExport) -> Response:
    """The names shown, or the session's prints of them, newest first."""
    view = found.view
    table = _names(found, request.sort) if request.view == "names" else _prints(found)
    notes = [
        ("window", f"{view.date(found.first)} to {view.date(found.last)}" if found.kept else "no prints are kept"),
        ("levels from", f"{found.window.least:,.0f} {found.window.unit}"),
        ("universe", f"{request.stack.universe}: {int(found.ran.universe.sum())} names"),
        ("survivors", f"{found.survivors.size} names, {found.rows.size} of them looked at"),
        ("direction", "nobody says whether a print was bought or sold"),
    ]
    return hand_over(
        table,
        view,
        found.ran,
        kind="off-exchange",
        title=request.name,
        form=request.format,
        moment=at_the_exchange(view.as_of),
        notes=notes,
    )


def _names(found: Found, sort: str) -> Table:
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
    written = order[:MOST_ROWS].tolist()
    told = (tell(row).model_dump() for row in written)
    return Table(headings, ([row[heading.key] for heading in headings] for row in told), len(written), order.size)


def _prints(found: Found) -> Table:
    headings = [
        Heading("symbol", "Symbol", "", 0), Heading("at", "Time", "UTC", 0), Heading("part", "Part of the day", "", 0),
        Heading("price", "Price", "$", 4), Heading("shares", "Shares", "shares", 0), Heading("notional", "Notional", "$", 0),
        Heading("prints", "Prints", "", 0), Heading("conditions", "Conditions", "", 0),
        Heading("share_pct", "Of the day's volume", "%", 2), Heading("away_pct", "From the price", "%", 2),
    ]  # fmt: skip
    total = session_prints(found, 0, 0)[1].size

    def part(first: int, end: int) -> list[list[Cell]]:
        return [
            [p.symbol, f"{p.at:%Y-%m-%d %H:%M:%S.%f}"[:-3], p.part, p.price, p.shares, p.notional, p.prints,
             ", ".join(p.conditions), p.share_pct, p.away_pct]
            for p in session_prints(found, first, end - first)[0]
        ]  # fmt: skip

    written = min(total, MOST_ROWS)
    return Table(headings, in_parts(written, part, 4_000), written, total)
