"""Surviving tickets as a file, with the rules and the moment they belong to."""

from __future__ import annotations

from collections.abc import Iterator

from flask import Response

from flinch.features.tape.schemas import TapeExport
from flinch.features.tape.service import contract_row, contract_table, name_row, name_table, ticket_lines
from flinch.features.tape.survivors import Survivors
from flinch.feeds.export import Cell, Heading
from flinch.web.files import MOST_ROWS, Table, at_the_exchange, hand_over, in_parts


def as_file(found: Survivors, request: TapeExport) -> Response:
    """Names, tickets (newest first) or contracts that are left."""
    table = {"names": _names, "tickets": _tickets, "contracts": _contracts}[request.view](found, request)
    view = found.table.view
    notes = [
        ("sessions", str(request.sessions)),
        ("universe", f"{request.stack.universe}: {int(found.ran.universe.sum())} tickets"),
        ("survivors", f"{found.rows.size} tickets, {found.shown.size} of them looked at"),
        ("a lean", "is a fact about a trade, not about its owner: what it hedges is not known"),
    ]
    moment = at_the_exchange(found.table.until or view.as_of)
    return hand_over(
        table, view, found.ran, kind="tape", title=request.name, form=request.format, moment=moment, notes=notes
    )


def _names(found: Survivors, request: TapeExport) -> Table:
    order, told, groups = name_table(found, request.sort, request.least)
    written = order[:MOST_ROWS].tolist()
    rows = (name_row(found, row, told, groups) for row in written)
    headings = [
        Heading("symbol", "Symbol", "", 0), Heading("company", "Company", "", 0),
        *[Heading(f"{right}_{side}", f"{right.capitalize()}s, {side} side", "$", 0) 
          for right in ("call", "put") for side in ("ask", "bid", "mid")],
        Heading("premium", "Premium", "$", 0), Heading("net", "Net premium", "$", 0), Heading("tickets", "Tickets", "", 0),
        Heading("strongest", "Strongest contract", "", 0), Heading("strongest_premium", "Its premium", "$", 0),
        Heading("repeated", "Repeated", "", 0), Heading("first_in", "First in", "sessions", 0), Heading("since", "Since", "σ", 2),
    ]  # fmt: skip
    table: Iterator[list[Cell]] = (
        [r.symbol, r.company, r.call.ask, r.call.bid, r.call.mid, r.put.ask, r.put.bid, r.put.mid, r.premium, r.net, r.tickets,
         r.strongest, r.strongest_premium, r.repeated, r.first_in, r.since]
        for r in rows
    )  # fmt: skip
    return Table(headings, table, len(written), order.size)


def _tickets(found: Survivors, request: TapeExport) -> Table:
    newest = found.shown[::-1][:MOST_ROWS]
    headings = [
        Heading("symbol", "Symbol", "", 0), Heading("at", "Time", "UTC", 0), Heading("right", "Right", "", 0),
        Heading("strike", "Strike", "$", 2), Heading("expiration", "Expiration", "", 0), Heading("days", "Days", "days", 0),
        Heading("side", "Side", "", 0), Heading("kind", "Kind", "", 0), Heading("contracts", "Contracts", "contracts", 0),
        Heading("price", "Price paid", "$", 2), Heading("premium", "Premium", "$", 0), Heading("fills", "Fills", "", 0),
        Heading("price_then", "Stock then", "$", 2), Heading("away", "Out of the money", "%", 1), Heading("lean", "Lean", "", 0),
        Heading("since", "Since", "σ", 2), Heading("opening", "Opens", "", 0), Heading("first_in", "First in", "sessions", 0),
        Heading("unusual", "Unusual", "", 2), Heading("package", "Package", "", 0), Heading("roll", "Roll", "", 0),
    ]  # fmt: skip

    def part(first: int, end: int) -> list[list[Cell]]:
        return [
            [t.symbol, f"{t.at:%Y-%m-%d %H:%M:%S.%f}"[:-3], "call" if t.is_call else "put", t.strike, t.expiration.isoformat(),
             t.days, t.side, t.kind, t.contracts, t.price, t.premium, t.fills, t.price_then, t.away_pct, t.lean, t.since,
             t.opening, t.first_in, t.unusual, t.package, t.roll]
            for t in ticket_lines(found, newest[first:end])
        ]  # fmt: skip

    return Table(headings, in_parts(newest.size, part), newest.size, found.shown.size)


def _contracts(found: Survivors, request: TapeExport) -> Table:
    order, told = contract_table(found, request.sort)
    written = order[:MOST_ROWS].tolist()
    rows = (contract_row(found, place, told) for place in written)
    headings = [
        Heading("symbol", "Symbol", "", 0), Heading("right", "Right", "", 0), Heading("strike", "Strike", "$", 2),
        Heading("expiration", "Expiration", "", 0), Heading("premium", "Premium", "$", 0), Heading("tickets", "Tickets", "", 0),
        Heading("contracts", "Contracts", "contracts", 0), Heading("volume", "Volume", "contracts", 0),
        Heading("open_interest", "Open interest", "contracts", 0), Heading("opened", "Opened", "contracts", 0),
        Heading("ask_share", "Ask share", "%", 0), Heading("quiet", "Last traded before", "sessions", 0),
    ]  # fmt: skip
    table: Iterator[list[Cell]] = (
        [c.symbol, "call" if c.is_call else "put", c.strike, c.expiration.isoformat(), c.premium, c.tickets, c.contracts,
         c.volume, c.open_interest, c.opened, c.ask_share_pct, c.quiet]
        for c in rows
    )  # fmt: skip
    return Table(headings, table, len(written), order.size)
