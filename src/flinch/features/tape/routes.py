"""Tape: which option trades happened that are unusual for that name?"""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.features.tape import export, service
from flinch.features.tape.schemas import (
    FillList,
    FillsAsked,
    NameAsked,
    NameTickets,
    StackAsked,
    SymbolPath,
    TapeExport,
    TapeReply,
    TapeRequest,
)
from flinch.features.tape.survivors import Survivors, find_survivors
from flinch.screening.run import stack_work
from flinch.web import ERRORS, Problem, dictionary, own_metrics, reply, services, view, whose
from flinch.web.files import RESPONSES
from flinch.web.lane import COSTLY

blueprint = APIBlueprint("tape", __name__, url_prefix="/api/tape", abp_responses=ERRORS)


@blueprint.post("", responses={200: TapeReply, 422: Problem})
def look_at_tape(body: TapeRequest) -> Response:
    """Tickets that a stack of rules leaves, by name, one by one, by contract or through the day."""
    with COSTLY.turn(_work(body)):
        return reply(service.look(_found(body), own_metrics("tickets"), body))


@blueprint.post("/name", responses={200: NameTickets, 404: Problem, 422: Problem})
def look_at_name(body: NameAsked) -> Response:
    """One name's surviving tickets on its price."""
    with COSTLY.turn(_work(body)):
        return reply(service.name_tape(_found(body), body.symbol))


@blueprint.post("/export", responses={**RESPONSES, 422: Problem})
def export_tape(body: TapeExport) -> Response:
    """Survivors as CSV, XLSX or JSON."""
    with COSTLY.turn(_work(body)):
        return export.as_file(_found(body), body)


@blueprint.get("/fills/<path:symbol>", responses={200: FillList, 404: Problem, 422: Problem})
def read_fills(path: SymbolPath, query: FillsAsked) -> Response:
    """The fills of one ticket."""
    return reply(service.fills(view(query.as_of), path.symbol, query))


def _found(body: StackAsked) -> Survivors:
    return find_survivors(view(body.as_of), services().owned, whose(), dictionary("tickets"), body)


def _work(body: StackAsked) -> int:
    return stack_work(dictionary("tickets"), body.stack)
