"""Results as a file, with the rules and the session they belong to."""

from __future__ import annotations

import datetime as dt
from urllib.parse import quote

import numpy as np
from flask import Response
from sqlalchemy import Engine

from flinch.core.gamma import DEFAULT_RULE, RULE_WORDS
from flinch.core.rules import series_keys
from flinch.core.rules.catalogue import SIGNED
from flinch.features.screen.schemas import ExportRequest
from flinch.feeds.export import MIME, Cell, Heading, Sheet, write_sheet
from flinch.market import Dictionary, Market
from flinch.screening.columns import Described, NamedColumn, read_columns
from flinch.screening.groups import universe
from flinch.screening.run import Ran, run_stack

_RULE_HEADINGS = ("rule", "bars", "switched on", "group", "survivors", "lost, no data", "lone cut", "problem")


def as_file(
    market: Market,
    engine: Engine,
    owner: int,
    dictionary: Dictionary,
    own: dict[str, Described],
    request: ExportRequest,
) -> Response:
    """Every survivor with the columns asked for, in the order asked for."""
    session = market.newest if request.as_of is None else market.session_on(request.as_of)
    start = universe(market, engine, owner, request.stack.universe, session)
    ran = run_stack(market, dictionary, request.stack, start, session)
    columns = read_columns(market, dictionary, own, request.columns, session)
    rows = _ordered(market, np.flatnonzero(ran.result.survivors), request.sort, dictionary, own, session)
    names = market.frame.names
    headings = [Heading("symbol", "Symbol", "", 0), Heading("company", "Company", "", 0)]
    headings += [Heading(c.described.key, c.described.label, c.described.unit, c.described.decimals) for c in columns]
    table: list[list[Cell]] = [
        [names[row].symbol, names[row].company, *[_cell(column, int(row)) for column in columns]] for row in rows
    ]
    notes = _notes(market, request, ran)
    used = [column.node for column in columns] + [rule.expression.node for rule in ran.rules if rule.expression]
    if any(node is not None and series_keys(node) & SIGNED for node in used):
        notes.append(("sign of exposure", f"assumed, not measured: {RULE_WORDS[DEFAULT_RULE]}"))
    sheet = Sheet(request.name, headings, table, notes, _rules(ran), _RULE_HEADINGS)
    name = f"{request.name.strip() or 'screen'} {market.date(session)}.{request.format}"
    disposition = f"attachment; filename=\"screen.{request.format}\"; filename*=UTF-8''{quote(name, safe='')}"
    return Response(
        write_sheet(sheet, request.format), mimetype=MIME[request.format], headers={"Content-Disposition": disposition}
    )


def _ordered(
    market: Market, rows: np.ndarray, sort: list[str], dictionary: Dictionary, own: dict[str, Described], session: int
) -> np.ndarray:
    """Rows by up to two keys; what has no value comes last whichever way."""
    for key in reversed(sort):
        name, falling = key.lstrip("-"), key.startswith("-")
        if name in ("symbol", "company"):
            order = sorted(range(rows.size), key=lambda i: getattr(market.frame.names[rows[i]], name), reverse=falling)
            rows = rows[order]
            continue
        column = read_columns(market, dictionary, own, [name], session)[0]
        if column.texts is not None:
            order = sorted(range(rows.size), key=lambda i: column.texts[rows[i]], reverse=falling)  # type: ignore[index]
            rows = rows[order]
            continue
        values = column.values[rows]
        rows = rows[np.argsort(np.where(np.isnan(values), np.inf, -values if falling else values), kind="stable")]
    return rows


def _cell(column: NamedColumn, row: int) -> Cell:
    if column.texts is not None:
        return str(column.texts[row]) or None
    value = float(column.values[row])
    if column.described.kind == "condition":
        return None if np.isnan(value) else bool(value)
    return value


def _notes(market: Market, request: ExportRequest, ran: Ran) -> list[tuple[str, str]]:
    newest = ran.session == market.newest
    moment = f"{market.as_of:%Y-%m-%d %H:%M} New York" if newest else f"{market.date(ran.session)}, at the close"
    return [
        ("screen", request.name),
        ("as of", moment),
        ("universe", f"{request.stack.universe}: {int(ran.universe.sum())} names"),
        ("survivors", str(int(ran.result.survivors.sum()))),
        ("source", market.frame.state.source),
        ("data version", str(market.frame.state.data_version)),
        ("written", f"{dt.datetime.now(dt.UTC):%Y-%m-%d %H:%M} UTC"),
    ]


def _rules(ran: Ran) -> list[list[Cell]]:
    return [
        [
            rule.body.text,
            "daily" if rule.body.bars == "day" else f"{rule.body.bars} minutes",
            rule.body.on,
            rule.body.group,
            count.survivors if rule.takes_part else None,
            count.missing if rule.takes_part else None,
            count.lone_cut if rule.takes_part else None,
            rule.error.message if rule.error else None,
        ]
        for rule, count in zip(ran.rules, ran.result.counts, strict=True)
    ]
