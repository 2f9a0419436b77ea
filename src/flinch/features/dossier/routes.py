from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.dossier import (
    chain,
    chain_export,
    facts,
    moves,
    positioning,
    price,
    prints,
    service,
    tape,
    volatility,
)
from flinch.features.dossier.chain import ChainView
from flinch.features.dossier.facts import FactsView
from flinch.features.dossier.moves import MovesView
from flinch.features.dossier.positioning_schemas import PositioningQuery, PositioningView
from flinch.features.dossier.price_schemas import PriceQuery, PriceView
from flinch.features.dossier.prints import PrintsQuery, PrintsView
from flinch.features.dossier.schemas import (
    ChainExportQuery,
    ChainQuery,
    Dossier,
    DossierPath,
    DossierQuery,
    OverTime,
    OverTimeQuery,
)
from flinch.features.dossier.tape import TapeQuery, TapeView
from flinch.features.dossier.volatility import VolatilityView
from flinch.feeds.export import FILES
from flinch.web import ERRORS, AsOfQuery, Problem, dictionary, own_metrics, reply, view

blueprint = APIBlueprint("dossier", __name__, url_prefix="/api/dossier", abp_responses=ERRORS)


@blueprint.get("/<path:symbol>", responses={200: Dossier, 404: Problem, 422: Problem})
def read_dossier(path: DossierPath, query: DossierQuery) -> Response:
    """Everything about one name."""
    return reply(service.dossier(view(query.as_of), path.symbol, query.estimator, query.window))


@blueprint.get("/over-time/<path:symbol>", responses={200: OverTime, 404: Problem, 422: Problem})
def read_over_time(path: DossierPath, query: OverTimeQuery) -> Response:
    """Any number of one name over its history."""
    return reply(service.over_time(view(query.as_of), dictionary(), own_metrics(), path.symbol, query))


@blueprint.get("/volatility/<path:symbol>", responses={200: VolatilityView, 404: Problem, 422: Problem})
def read_volatility(path: DossierPath, query: DossierQuery) -> Response:
    """One name's volatility: history, smiles, term structure, cone, forecast, past reports."""
    return reply(volatility.volatility(view(query.as_of), path.symbol, query.estimator, query.window))


@blueprint.get("/expected-move/<path:symbol>", responses={200: MovesView, 404: Problem, 422: Problem})
def read_moves(path: DossierPath, query: AsOfQuery) -> Response:
    """One name's expected moves: fans, where price stands in them, today's, and the ledger of past cycles."""
    return reply(moves.moves(view(query.as_of), path.symbol))


@blueprint.get("/positioning/<path:symbol>", responses={200: PositioningView, 404: Problem, 422: Problem})
def read_positioning(path: DossierPath, query: PositioningQuery) -> Response:
    """One name's gamma exposure and open interest: where they lie and how they are changing."""
    return reply(positioning.positioning(view(query.as_of), path.symbol, query))


@blueprint.get("/chain/<path:symbol>", responses={200: ChainView, 404: Problem, 422: Problem})
def read_chain(path: DossierPath, query: ChainQuery) -> Response:
    """One expiration's option chain."""
    return reply(chain.chain(view(query.as_of), path.symbol, query.expiration))


@blueprint.get("/facts/<path:symbol>", responses={200: FactsView, 404: Problem, 422: Problem})
def read_facts(path: DossierPath, query: AsOfQuery) -> Response:
    """What one name is, reported, pays and is expected to earn, each with the day it became known."""
    return reply(facts.facts(view(query.as_of), path.symbol))


@blueprint.get("/price/<path:symbol>", responses={200: PriceView, 404: Problem, 422: Problem})
def read_price(path: DossierPath, query: PriceQuery) -> Response:
    """One name's bars of any length and the layers asked for."""
    return reply(price.price(view(query.as_of), dictionary(), own_metrics(), path.symbol, query))


@blueprint.get("/prints/<path:symbol>", responses={200: PrintsView, 404: Problem, 422: Problem})
def read_prints(path: DossierPath, query: PrintsQuery) -> Response:
    """One name's off-exchange prints: shelves, their tests, the record beside chance, bursts."""
    return reply(prints.prints(view(query.as_of), path.symbol, query))


@blueprint.get("/tape/<path:symbol>", responses={200: TapeView, 404: Problem, 422: Problem})
def read_tape(path: DossierPath, query: TapeQuery) -> Response:
    """One name's option trades of a session."""
    return reply(tape.tape(view(query.as_of), path.symbol, query.session))


@blueprint.get(
    "/chain-file/<path:symbol>",
    responses={200: FILES, 404: Problem, 422: Problem},
)
def export_chain(path: DossierPath, query: ChainExportQuery) -> Response:
    """One expiration's option chain as CSV, XLSX or JSON."""
    return chain_export.as_file(chain.chain(view(query.as_of), path.symbol, query.expiration), query.format)
