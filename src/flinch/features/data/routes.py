from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.data import service
from flinch.features.data.schemas import HeldKinds, MarketChoice, MarketDraft, MarketList, MarketPath, MarketRow
from flinch.store.databases import DEMO
from flinch.store.owned.owners import choose_market
from flinch.web import ERRORS, Done, Problem, UserError, market_name, owner, reply, services

_STAYS = Problem(
    type="stays",
    message="The demo market cannot be removed: every start would make it again. Nothing was changed.",
    where="name",
)

blueprint = APIBlueprint("data", __name__, url_prefix="/api", abp_responses=ERRORS)


@blueprint.get("/markets", responses={200: MarketList})
def list_markets() -> Response:
    """The markets there are, with what each has and lacks."""
    return reply(MarketList(market=market_name(), markets=service.market_rows(services().markets)))


@blueprint.get("/data/kinds", responses={200: HeldKinds})
def list_kinds() -> Response:
    """Every kind of data, and what the market has of it."""
    name = market_name()
    return reply(HeldKinds(market=name, kinds=service.kind_rows(services().markets, name)))


@blueprint.post("/markets", responses={200: MarketRow, 409: Problem, 422: Problem})
def make_market(body: MarketDraft) -> Response:
    """An empty market."""
    markets = services().markets
    markets.make(body.name, service.settings_of(body))
    return reply(service.market_row(markets, body.name))


@blueprint.get("/markets/chosen", responses={200: MarketChoice})
def read_choice() -> Response:
    """The market that requests which name none are about."""
    return reply(MarketChoice(market=market_name()))


@blueprint.put("/markets/chosen", responses={200: Done, 404: Problem})
def choose(body: MarketChoice) -> Response:
    """Let requests that name no market be about this one."""
    running = services()
    running.markets.require(body.market)
    choose_market(running.owned, owner(), body.market)
    return reply(Done())


@blueprint.delete("/markets/<string:name>", responses={200: Done, 404: Problem, 409: Problem})
def remove_market(path: MarketPath) -> Response:
    """Remove a market's data for good; tray, lines, plans and baskets of it stay, for when one of its name is made again."""
    if path.name == DEMO:
        raise UserError(_STAYS, 409)
    markets = services().markets
    markets.require(path.name)
    markets.remove(path.name)
    return reply(Done())
