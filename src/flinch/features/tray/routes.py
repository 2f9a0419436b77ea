from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.clock import wall
from flinch.features.tray.schemas import (
    TrayAddition,
    TrayChange,
    TrayExport,
    TrayItem,
    TrayReply,
    TraySymbolPath,
    TrayVersion,
    Why,
)
from flinch.feeds.export import FILES, MIME, Cell, Heading, Sheet, write_sheet
from flinch.market import View
from flinch.screening.columns import read_columns
from flinch.store.owned import tray as store
from flinch.web import ERRORS, Problem, dictionary, own_metrics, reply, services, view, whose
from flinch.web.files import at_the_exchange

blueprint = APIBlueprint("tray", __name__, url_prefix="/api/tray", abp_responses=ERRORS)


def _reply(now: View, tray: store.Tray) -> Response:
    names = {name.symbol: name.company for name in now.frame.names}
    items = [
        TrayItem(
            symbol=e.symbol, company=names.get(e.symbol, "no longer listed"), why=Why(**e.why), added_at=e.added_at
        )
        for e in tray.entries
    ]
    return reply(TrayReply(items=items, undo=tray.undo, version=tray.version))


@blueprint.get("", responses={200: TrayReply})
def read_tray() -> Response:
    """The working list."""
    return _reply(view(), store.read_tray(services().owned, whose()))


@blueprint.post("", responses={200: TrayReply, 404: Problem, 409: Problem, 422: Problem})
def add_to_tray(body: TrayAddition) -> Response:
    """Put names in; all of them, or none when one is unknown."""
    now = view()
    symbols = [now.frame.names[now.row(symbol)].symbol for symbol in body.symbols]
    why = body.why.model_dump()
    moment = wall()
    tray = store.add_to_tray(services().owned, whose(), [(symbol, why) for symbol in symbols], moment)
    return _reply(now, tray)


@blueprint.put("", responses={200: TrayReply, 404: Problem, 409: Problem, 422: Problem})
def change_tray(body: TrayChange) -> Response:
    """Keep only, add, remove or replace by a list of names; all of it, or nothing when one is unknown."""
    now = view()
    symbols = [now.frame.names[now.row(symbol)].symbol for symbol in body.symbols]
    why = body.why.model_dump()
    listed = {symbol: why | ({"values": body.values[symbol]} if symbol in body.values else {}) for symbol in symbols}
    verb = {"keep": "keep only", "replace": "replace by"}.get(body.op)
    about = None if body.op == "add" else body.why.words[:80]
    moment = wall()
    tray = store.change_tray(
        services().owned, whose(), body.op, listed, moment, verb=verb, about=about, version=body.version
    )
    return _reply(now, tray)


@blueprint.get("/export", responses={200: FILES, 422: Problem})
def export_tray(query: TrayExport) -> Response:
    """The working list as CSV, XLSX or JSON: why each name came, its values then and now."""
    now = view()
    entries = store.read_tray(services().owned, whose()).entries
    keys = list(dict.fromkeys(key for entry in entries for key in entry.why.get("values", {})))[:40]
    columns = {c.described.key: c for c in read_columns(now, dictionary(), own_metrics(), keys)}
    headings = [
        Heading("symbol", "Symbol", "", 0),
        Heading("company", "Company", "", 0),
        Heading("page", "From", "", 0),
    ]
    headings += [Heading("why", "Why it came", "", 0), Heading("added_at", "Added (UTC)", "", 0)]
    for key in keys:
        described = columns[key].described
        headings.append(Heading(f"{key}_then", f"{described.label}, then", described.unit, described.decimals))
        headings.append(Heading(f"{key}_now", f"{described.label}, now", described.unit, described.decimals))
    rows: list[list[Cell]] = []
    for entry in entries:
        row = now.frame.index.get(entry.symbol)
        company = now.frame.names[row].company if row is not None else "no longer listed"
        cells: list[Cell] = [entry.symbol, company, entry.why["page"], entry.why["words"]]
        cells.append(f"{entry.added_at:%Y-%m-%d %H:%M}")
        for key in keys:
            cells.append(entry.why.get("values", {}).get(key))
            cells.append(float(columns[key].values[row]) if row is not None else None)
        rows.append(cells)
    notes = [("tray", f"{len(rows)} names"), ("as of", at_the_exchange(now.as_of))]
    name = f"tray {now.today}.{query.format}"
    return Response(
        write_sheet(Sheet("Tray", headings, rows, notes), query.format),
        mimetype=MIME[query.format],
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


@blueprint.delete("/<path:symbol>", responses={200: TrayReply})
def remove_from_tray(path: TraySymbolPath) -> Response:
    """Take a name out."""
    return _reply(view(), store.remove_from_tray(services().owned, whose(), [path.symbol.strip().upper()]))


@blueprint.delete("", responses={200: TrayReply, 409: Problem})
def clear_tray(query: TrayVersion) -> Response:
    """Take all names out."""
    return _reply(view(), store.remove_from_tray(services().owned, whose(), None, version=query.version))


@blueprint.post("/undo", responses={200: TrayReply, 409: Problem})
def undo_tray(query: TrayVersion) -> Response:
    """Take back the last change."""
    return _reply(view(), store.undo_tray(services().owned, whose(), version=query.version))
