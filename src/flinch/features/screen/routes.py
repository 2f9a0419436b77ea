from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.screen import service
from flinch.features.screen.schemas import ScreenQuery, ScreenReply
from flinch.web import Problem, market, reply

blueprint = APIBlueprint("screen", __name__, url_prefix="/api/screen")


@blueprint.get("", responses={200: ScreenReply, 422: Problem})
def run_screen(query: ScreenQuery) -> Response:
    """Run a screen on the newest session."""
    return reply(service.run(market(), query.universe, query.rule))
