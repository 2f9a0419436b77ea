"""Off-exchange: at which prices did the big prints land, and where is price against them?"""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.offexchange import export, service
from flinch.features.offexchange.schemas import PrintsExport, PrintsReply, PrintsRequest, ShelfRecord, StackAsked
from flinch.screening.run import stack_work
from flinch.web import ERRORS, Problem, dictionary, own_metrics, reply, services, view, whose
from flinch.web.files import RESPONSES
from flinch.web.lane import COSTLY

blueprint = APIBlueprint("off-exchange", __name__, url_prefix="/api/off-exchange", abp_responses=ERRORS)


@blueprint.post("", responses={200: PrintsReply, 422: Problem})
def look_at_prints(body: PrintsRequest) -> Response:
    """Names that a stack of rules leaves, where they stand among large prints, or the session's prints of them."""
    with COSTLY.turn(stack_work(dictionary(), body.stack)):
        return reply(service.look(_found(body), own_metrics(), body))


@blueprint.post("/record", responses={200: ShelfRecord, 422: Problem})
def record_of_shelves(body: StackAsked) -> Response:
    """Whether shelves of the names left held more often than prices at the same distance where nothing was printed."""
    with COSTLY.turn(stack_work(dictionary(), body.stack)):
        return reply(service.shelf_record(_found(body)))


@blueprint.post("/export", responses={**RESPONSES, 422: Problem})
def export_prints(body: PrintsExport) -> Response:
    """The same as CSV, XLSX or JSON."""
    with COSTLY.turn(stack_work(dictionary(), body.stack)):
        return export.as_file(_found(body), body)


def _found(body: StackAsked) -> service.Found:
    return service.find(view(body.as_of), services().owned, whose(), dictionary(), body)
