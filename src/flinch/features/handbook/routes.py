from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.core.rules import METRICS
from flinch.features.handbook.schemas import MetricEntry, MetricList
from flinch.web import reply

blueprint = APIBlueprint("handbook", __name__, url_prefix="/api/handbook")


@blueprint.get("", responses={200: MetricList})
def list_metrics() -> Response:
    """Every metric of the catalogue."""
    return reply(MetricList(metrics=[MetricEntry(**metric._asdict()) for metric in METRICS.values()]))
