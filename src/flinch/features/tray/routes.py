from __future__ import annotations

import datetime as dt

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.tray.schemas import TrayAddition, TrayItem, TrayReply, TraySymbolPath, Why
from flinch.market import Market
from flinch.store import tray as store
from flinch.web import Problem, UserError, market, reply, services

blueprint = APIBlueprint("tray", __name__, url_prefix="/api/tray")


def _owner() -> int:
    return store.local_owner(services().engine)


def _reply(now: Market, tray: store.Tray) -> Response:
    names = {name.symbol: name.company for name in now.frame.names}
    items = [
        TrayItem(
            symbol=e.symbol, company=names.get(e.symbol, "no longer listed"), why=Why(**e.why), added_at=e.added_at
        )
        for e in tray.entries
    ]
    return reply(TrayReply(items=items, undo=tray.undo))


@blueprint.get("", responses={200: TrayReply})
def read_tray() -> Response:
    """The working list."""
    return _reply(market(), store.read_tray(services().engine, _owner()))


@blueprint.post("", responses={200: TrayReply, 404: Problem, 409: Problem, 422: Problem})
def add_to_tray(body: TrayAddition) -> Response:
    """Put names in; all of them, or none when one is unknown."""
    now = market()
    symbols = [now.frame.names[now.row(symbol)].symbol for symbol in body.symbols]
    why = body.why.model_dump()
    moment = dt.datetime.now(dt.UTC)
    try:
        tray = store.add_to_tray(services().engine, _owner(), [(symbol, why) for symbol in symbols], moment)
    except store.TrayFull:
        message = f"The tray holds {store.MOST_ENTRIES} names. Remove some first; nothing was added."
        raise UserError(Problem(type="tray_full", message=message), 409) from None
    return _reply(now, tray)


@blueprint.delete("/<path:symbol>", responses={200: TrayReply})
def remove_from_tray(path: TraySymbolPath) -> Response:
    """Take a name out."""
    return _reply(market(), store.remove_from_tray(services().engine, _owner(), [path.symbol.strip().upper()]))


@blueprint.delete("", responses={200: TrayReply})
def clear_tray() -> Response:
    """Take all names out."""
    return _reply(market(), store.remove_from_tray(services().engine, _owner(), None))


@blueprint.post("/undo", responses={200: TrayReply})
def undo_tray() -> Response:
    """Take back the last change."""
    return _reply(market(), store.undo_tray(services().engine, _owner()))
