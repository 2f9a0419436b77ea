"""Lineup: across this basket, whose volatility is out of line with the others and with its own past?"""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.lineup import service
from flinch.features.lineup.schemas import CorrelationRequest, Correlations, Lineup, LineupRequest
from flinch.web import ERRORS, Problem, dictionary, own_metrics, reply, services, view, whose
from flinch.web.lane import COSTLY

blueprint = APIBlueprint("lineup", __name__, url_prefix="/api/lineup", abp_responses=ERRORS)


@blueprint.post("", responses={200: Lineup, 422: Problem})
def read_lineup(body: LineupRequest) -> Response:
    """A group of names on one axis, against a baseline and against each other."""
    with COSTLY.turn(0):
        return reply(service.lineup(view(body.as_of), services().owned, whose(), dictionary(), own_metrics(), body))


@blueprint.post("/correlation", responses={200: Correlations, 404: Problem, 422: Problem})
def read_correlations(body: CorrelationRequest) -> Response:
    """How alike some names moved."""
    with COSTLY.turn(0):
        return reply(service.correlations(view(body.as_of), body))
