from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.dossier import service
from flinch.features.dossier.schemas import Dossier, DossierPath, DossierQuery, OverTime, OverTimeQuery
from flinch.web import Problem, dictionary, market, own_metrics, reply

blueprint = APIBlueprint("dossier", __name__, url_prefix="/api/dossier")


@blueprint.get("/<path:symbol>", responses={200: Dossier, 404: Problem, 422: Problem})
def read_dossier(path: DossierPath, query: DossierQuery) -> Response:
    """Everything about one name."""
    return reply(service.dossier(market(), path.symbol, query.estimator, query.window))


@blueprint.get("/over-time/<path:symbol>", responses={200: OverTime, 404: Problem, 422: Problem})
def read_over_time(path: DossierPath, query: OverTimeQuery) -> Response:
    """Any number of one name over its history."""
    return reply(service.over_time(market(), dictionary(), own_metrics(), path.symbol, query))
