"""Structures: which option structures pay best for the risk, under more than one opinion of fair value?"""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.clock import wall
from flinch.features.structures import export, one, plans, record, service, together
from flinch.features.structures.one_schemas import OneAsked, OneReply
from flinch.features.structures.plan_schemas import PlanDraft, PlanList, PlanPath, PlanView
from flinch.features.structures.record import RecordQuery, RecordReply
from flinch.features.structures.schemas import (
    KindList,
    SearchAsked,
    StructuresExport,
    StructuresReply,
    StructuresRequest,
)
from flinch.features.structures.service import Found
from flinch.features.structures.together_schemas import TogetherAsked, TogetherReply
from flinch.screening.run import stack_work
from flinch.store.owned.kept import PLANS
from flinch.web import (
    ERRORS,
    AsOfQuery,
    Done,
    Problem,
    RemoveQuery,
    UserError,
    dictionary,
    own_metrics,
    reply,
    services,
    view,
    whose,
)
from flinch.web.files import RESPONSES
from flinch.web.lane import COSTLY

blueprint = APIBlueprint("structures", __name__, url_prefix="/api/structures", abp_responses=ERRORS)

_GONE = Problem(type="no_such_plan", message="This plan is not there any more. Nothing was changed.")


@blueprint.get("/kinds", responses={200: KindList})
def list_kinds() -> Response:
    """The kinds of structures that a search can ask for."""
    return reply(KindList(kinds=service.kinds()))


@blueprint.post("", responses={200: StructuresReply, 422: Problem})
def search_structures(body: StructuresRequest) -> Response:
    """Make structures of the quotes of some names, and say which of them a stack of rules leaves."""
    with COSTLY.turn(_work(body)):
        return reply(service.look(_found(body), own_metrics("structures"), dictionary("structures"), body))


@blueprint.post("/one", responses={200: OneReply, 404: Problem, 422: Problem})
def look_at_one(body: OneAsked) -> Response:
    """One structure: payoff, three opinions, what may happen."""
    with COSTLY.turn(0):
        return reply(one.look_at_one(view(body.as_of), dictionary(), body))


@blueprint.post("/together", responses={200: TogetherReply, 422: Problem})
def hold_together(body: TogetherAsked) -> Response:
    """What some structures would gain and lose together."""
    with COSTLY.turn(0):
        return reply(together.together_reply(view(body.as_of), body))


@blueprint.get("/record", responses={200: RecordReply, 404: Problem, 422: Problem})
def read_record(query: RecordQuery) -> Response:
    """What the three opinions said in the past, and what came: of all names and of one."""
    with COSTLY.turn(0):
        return reply(record.record_reply(view(query.as_of), query.symbol))


@blueprint.post("/export", responses={**RESPONSES, 422: Problem})
def export_structures(body: StructuresExport) -> Response:
    """Survivors as CSV, XLSX or JSON."""
    with COSTLY.turn(_work(body)):
        return export.as_file(_found(body), dictionary("structures"), own_metrics("structures"), body)


@blueprint.get("/plans", responses={200: PlanList, 422: Problem})
def list_plans(query: AsOfQuery) -> Response:
    """All plans with what they are worth."""
    with COSTLY.turn(0):
        return reply(plans.plan_list(view(query.as_of), PLANS.all(services().owned, whose())))


@blueprint.post("/plans", responses={200: PlanView, 404: Problem, 409: Problem, 422: Problem})
def keep_plan(body: PlanDraft) -> Response:
    """Keep a structure as a plan."""
    return _keep(body, None)


@blueprint.put("/plans/<int:id>", responses={200: PlanView, 404: Problem, 409: Problem, 422: Problem})
def change_plan(path: PlanPath, body: PlanDraft) -> Response:
    """Change a plan."""
    return _keep(body, path.id)


@blueprint.delete("/plans/<int:id>", responses={200: Done, 404: Problem, 409: Problem})
def drop_plan(path: PlanPath, query: RemoveQuery) -> Response:
    """Drop a plan; it can be brought back."""
    if not PLANS.remove(services().owned, whose(), path.id, wall(), version=query.version):
        raise UserError(_GONE, 404)
    return reply(Done())


@blueprint.post("/plans/<int:id>/restore", responses={200: Done, 404: Problem, 409: Problem})
def restore_plan(path: PlanPath) -> Response:
    """Bring a plan back."""
    if not PLANS.restore(services().owned, whose(), path.id):
        raise UserError(_GONE, 404)
    return reply(Done())


def _keep(body: PlanDraft, id: int | None) -> Response:
    engine, now = services().owned, view()
    before = None if id is None else PLANS.one(engine, whose(), id)
    values = plans.values_of(now, body, before)
    row = PLANS.save(engine, whose(), values, id, version=body.version)
    if row is None:
        raise UserError(_GONE, 404)
    return reply(plans.plan_view(now, row))


def _found(body: SearchAsked) -> Found:
    return service.find(view(body.as_of), services().owned, whose(), dictionary(), dictionary("structures"), body)


def _work(body: SearchAsked) -> int:
    return stack_work(dictionary("structures"), body.stack)
