"""Handbook: what every number means."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.clock import wall
from flinch.features.handbook import service
from flinch.features.handbook.schemas import (
    CheckReply,
    CheckRequest,
    Handbook,
    OwnMetric,
    OwnMetricDraft,
    OwnMetricList,
    OwnMetricPath,
)
from flinch.store.owned.kept import OWN_METRICS
from flinch.web import ERRORS, Done, Problem, RemoveQuery, UserError, dictionary, reply, services, whose

blueprint = APIBlueprint("handbook", __name__, url_prefix="/api", abp_responses=ERRORS)

_GONE = Problem(type="no_such_metric", message="This metric is not there any more. Nothing was changed.")


@blueprint.get("/handbook", responses={200: Handbook})
def read_handbook() -> Response:
    """Every metric of the catalogue and every function of the rule language."""
    return reply(service.handbook(dictionary(), OWN_METRICS.all(services().owned, whose())))


@blueprint.post("/check", responses={200: CheckReply})
def check_text(body: CheckRequest) -> Response:
    """Whether a text can be read, and what it is."""
    return reply(service.check(dictionary(body.table), body))


@blueprint.get("/own-metrics", responses={200: OwnMetricList})
def list_own_metrics() -> Response:
    """The user's own metrics."""
    known = dictionary()
    rows = OWN_METRICS.all(services().owned, whose())
    return reply(OwnMetricList(metrics=[service.as_reply(row, known) for row in rows]))


@blueprint.post("/own-metrics", responses={200: OwnMetric, 409: Problem, 422: Problem})
def save_own_metric(body: OwnMetricDraft) -> Response:
    """Keep an expression under a name."""
    return _keep(body, None)


@blueprint.put("/own-metrics/<int:id>", responses={200: OwnMetric, 404: Problem, 409: Problem, 422: Problem})
def replace_own_metric(path: OwnMetricPath, body: OwnMetricDraft) -> Response:
    """Change one of the user's own metrics."""
    return _keep(body, path.id)


@blueprint.delete("/own-metrics/<int:id>", responses={200: Done, 404: Problem, 409: Problem})
def delete_own_metric(path: OwnMetricPath, query: RemoveQuery) -> Response:
    """Remove one; it can be restored. Rules that use it then say so."""
    if not OWN_METRICS.remove(services().owned, whose(), path.id, wall(), version=query.version):
        raise UserError(_GONE, 404)
    return reply(Done())


@blueprint.post("/own-metrics/<int:id>/restore", responses={200: Done, 404: Problem, 409: Problem})
def restore_own_metric(path: OwnMetricPath) -> Response:
    """Take a removal back."""
    if not OWN_METRICS.restore(services().owned, whose(), path.id):
        raise UserError(_GONE, 404)
    return reply(Done())


def _keep(body: OwnMetricDraft, id: int | None) -> Response:
    engine = services().owned
    row = OWN_METRICS.save(
        engine,
        whose(),
        body.model_dump(exclude={"version"}),
        id,
        version=body.version,
        # Within the same transaction: two that each come to use the other cannot both be kept.
        sound=lambda kept: service.require_sound(body, kept, id),
    )
    if row is None:
        raise UserError(_GONE, 404)
    return reply(service.as_reply(row, dictionary()))
