from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.dossier import service
from flinch.features.dossier.schemas import Dossier, DossierPath, DossierQuery
from flinch.web import Problem, market, reply

blueprint = APIBlueprint("dossier", __name__, url_prefix="/api/dossier")


@blueprint.get("/<path:symbol>", responses={200: Dossier, 404: Problem, 422: Problem})
def read_dossier(path: DossierPath, query: DossierQuery) -> Response:
    """Everything about one name."""
    return reply(service.dossier(market(), path.symbol, query.estimator, query.window))
