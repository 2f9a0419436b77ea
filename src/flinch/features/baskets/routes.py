"""Baskets: named groups of names, kept by hand or keeping themselves, and what any list of names consists of."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.clock import wall
from flinch.features.baskets.schemas import (
    BasketDraft,
    BasketList,
    BasketPath,
    KeptBasket,
    OwnBasket,
    PastedReply,
    PastedText,
    SourceQuery,
    SourceReply,
    UnknownWord,
)
from flinch.market import View
from flinch.screening.dates_ahead import calendar_of, dates_ahead
from flinch.screening.groups import read_symbols, sectors, source_symbols
from flinch.store.owned.kept import BASKETS, plain
from flinch.store.owned.models import Basket
from flinch.web import (
    ERRORS,
    Done,
    Problem,
    RemoveQuery,
    UserError,
    dictionary,
    market_name,
    reply,
    services,
    view,
    whose,
)

blueprint = APIBlueprint("baskets", __name__, url_prefix="/api/baskets", abp_responses=ERRORS)

CALENDAR = {"content": {"text/calendar": {"schema": {"type": "string"}}}, "description": "A calendar"}
_GONE = Problem(type="no_such_basket", message="This basket is not there any more. Nothing was changed.")


@blueprint.get("", responses={200: BasketList})
def list_baskets() -> Response:
    """Own baskets, sectors, and funds with their members."""
    now = view()
    frame = now.frame
    by_sector = [frame.names[row].sector for row in range(len(frame.names)) if frame.names[row].kind == "stock"]
    return reply(
        BasketList(
            own=[_own(row) for row in BASKETS.all(services().owned, whose())],
            sectors=[KeptBasket(source=f"sector:{s}", name=s, names=by_sector.count(s)) for s in sectors(now)],
            funds=[
                KeptBasket(
                    source=f"members:{frame.names[row].symbol}",
                    name=f"{frame.names[row].symbol} {frame.names[row].company}",
                    names=len(members),
                )
                for row, members in sorted(frame.members.items())
            ],
        )
    )


@blueprint.get("/source", responses={200: SourceReply, 422: Problem})
def read_source(query: SourceQuery) -> Response:
    """The symbols of any source: a basket, a sector, a fund's members, the tray, a saved screen's survivors."""
    symbols = source_symbols(view(), services().owned, whose(), dictionary(), query.source)
    return reply(SourceReply(source=query.source, symbols=symbols))


@blueprint.get("/calendar", responses={200: CALENDAR, 422: Problem})
def read_calendar(query: SourceQuery) -> Response:
    """Reports, ex-dividend days and expirations ahead of the names of any source, as a calendar that others can subscribe to."""
    now = view()
    symbols = source_symbols(now, services().owned, whose(), dictionary(), query.source)
    name = f"Flinch, {query.source.replace(':', ' ')}"
    told = calendar_of(dates_ahead(now, symbols), name=name, market=market_name(), moment=now.as_of)
    disposition = 'inline; filename="flinch.ics"'
    return Response(told, mimetype="text/calendar", headers={"Content-Disposition": disposition})


@blueprint.post("/read", responses={200: PastedReply, 422: Problem})
def read_pasted(body: PastedText) -> Response:
    """Find symbols in a pasted text of any shape."""
    pasted = read_symbols(view(), body.text)
    unknown = [UnknownWord(text=word.text, nearest=word.nearest) for word in pasted.unknown]
    return reply(PastedReply(symbols=pasted.symbols, unknown=unknown))


@blueprint.post("", responses={200: OwnBasket, 404: Problem, 409: Problem, 422: Problem})
def save_basket(body: BasketDraft) -> Response:
    """Keep names under a name."""
    return _keep(view(), body, None)


@blueprint.put("/<int:id>", responses={200: OwnBasket, 404: Problem, 409: Problem, 422: Problem})
def replace_basket(path: BasketPath, body: BasketDraft) -> Response:
    """Give a basket another name or other names."""
    return _keep(view(), body, path.id)


@blueprint.delete("/<int:id>", responses={200: Done, 404: Problem, 409: Problem})
def delete_basket(path: BasketPath, query: RemoveQuery) -> Response:
    """Remove a basket; it can be restored."""
    if not BASKETS.remove(services().owned, whose(), path.id, wall(), version=query.version):
        raise UserError(_GONE, 404)
    return reply(Done())


@blueprint.post("/<int:id>/restore", responses={200: Done, 404: Problem, 409: Problem})
def restore_basket(path: BasketPath) -> Response:
    """Take a removal back."""
    if not BASKETS.restore(services().owned, whose(), path.id):
        raise UserError(_GONE, 404)
    return reply(Done())


def _keep(now: View, body: BasketDraft, id: int | None) -> Response:
    symbols = list(dict.fromkeys(now.frame.names[now.row(symbol)].symbol for symbol in body.symbols))
    name = body.name.strip()
    if not name:
        raise UserError(Problem(type="bad_name", message="Give the basket a name.", where="name"))
    values = {"name": name, "symbols": symbols, "changed_at": plain(wall())}
    row = BASKETS.save(services().owned, whose(), values, id, version=body.version)
    if row is None:
        raise UserError(_GONE, 404)
    return reply(_own(row))


def _own(row: Basket) -> OwnBasket:
    return OwnBasket(id=row.id, version=row.version, name=row.name, symbols=list(row.symbols))
