"""Screen: which names meet my rules, and which rule did the cutting?"""

from __future__ import annotations

import datetime as dt

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.clock import wall
from flinch.features.screen import export, service
from flinch.features.screen.evidence import KIND, Evidence, EvidenceJob, EvidencePath, EvidenceRequest, asked_for
from flinch.features.screen.schemas import (
    ExportRequest,
    Look,
    LookReply,
    LookRequest,
    RowsReply,
    RowsRequest,
    SavedScreen,
    ScreenDraft,
    ScreenList,
    ScreenPath,
    ScreenReply,
    ScreenRequest,
    SeriesReply,
    SeriesRequest,
)
from flinch.screening.body import ScreenBody
from flinch.screening.run import stack_work
from flinch.screening.searches import SEARCHES
from flinch.screening.starters import STARTERS, TAPE_STARTERS
from flinch.store.owned import kept
from flinch.store.owned.models import SavedScreen as Row
from flinch.web import (
    ERRORS,
    Done,
    Problem,
    RemoveQuery,
    UserError,
    dictionary,
    market_name,
    own_formulas,
    own_lines,
    own_metrics,
    owner,
    reply,
    services,
    view,
    whose,
)
from flinch.web.files import RESPONSES
from flinch.web.lane import COSTLY

blueprint = APIBlueprint("screen", __name__, url_prefix="/api", abp_responses=ERRORS)

_WAIT_SECONDS = 1.0
_GONE = Problem(
    type="no_such_screen", message="This screen is not there any more. Nothing was changed; save it under a name."
)


@blueprint.post("/screen", responses={200: ScreenReply, 422: Problem})
def run_screen(body: ScreenRequest) -> Response:
    """Run a screen as of a session."""
    with COSTLY.turn(stack_work(dictionary(), body.stack)):
        return reply(service.run(view(body.as_of), services().owned, whose(), dictionary(), own_metrics(), body))


@blueprint.post("/screen/rows", responses={200: RowsReply, 422: Problem})
def read_rows(body: RowsRequest) -> Response:
    """Some of the names that a stack leaves, column by column."""
    with COSTLY.turn(stack_work(dictionary(), body.stack)):
        return reply(service.some_rows(view(body.as_of), services().owned, whose(), dictionary(), own_metrics(), body))


@blueprint.post("/screen/evidence", responses={200: EvidenceJob, 422: Problem})
def ask_evidence(body: EvidenceRequest) -> Response:
    """How often a stack fired before, what followed, and the base rates of the same: there at once when it takes no second."""
    jobs, request = services().jobs, body.model_dump(mode="json")
    here = market_name()
    jobs.require_room(owner(), lambda asked: (asked.get("market"), asked.get("request")) == (here, request))
    asked = asked_for(market_name(), view(), own_formulas(), own_lines(), body)
    return _evidence(jobs.submit(KIND, asked, owner=owner()))


@blueprint.get("/screen/evidence/<int:id>", responses={200: EvidenceJob, 422: Problem})
def read_evidence(path: EvidencePath) -> Response:
    """Evidence that was asked for, or how far it is; answered when something is there, or after a second."""
    return _evidence(path.id)


def _evidence(id: int) -> Response:
    jobs = services().jobs
    job = jobs.look(id, owner(), _WAIT_SECONDS, kind=KIND)
    answer = jobs.answer(job)
    evidence = None if answer is None else Evidence.model_validate_json(answer)
    return reply(EvidenceJob(id=job.id, percent=job.percent, stage=job.stage, evidence=evidence))


@blueprint.post("/screen/series", responses={200: SeriesReply, 422: Problem})
def read_series(body: SeriesRequest) -> Response:
    """Small charts for some names."""
    with COSTLY.turn(0):
        return reply(service.series(view(body.as_of), body))


@blueprint.post("/screen/export", responses={**RESPONSES, 422: Problem})
def export_screen(body: ExportRequest) -> Response:
    """Results as CSV, XLSX or JSON."""
    with COSTLY.turn(stack_work(dictionary(), body.stack)):
        return export.as_file(view(body.as_of), services().owned, whose(), dictionary(), own_metrics(), body)


@blueprint.get("/screens", responses={200: ScreenList})
def list_screens() -> Response:
    """Saved screens and starters."""
    saved = kept.SCREENS.all(services().owned, whose())
    return reply(ScreenList(saved=[_saved(row) for row in saved], starters=[*STARTERS, *TAPE_STARTERS, *SEARCHES]))


@blueprint.post("/screens", responses={200: SavedScreen, 409: Problem, 422: Problem})
def save_screen(body: ScreenDraft) -> Response:
    """Keep a screen under a name of its own."""
    return _keep(body, None)


@blueprint.put("/screens/<int:id>", responses={200: SavedScreen, 404: Problem, 409: Problem, 422: Problem})
def replace_screen(path: ScreenPath, body: ScreenDraft) -> Response:
    """Give a kept screen another name, text or body."""
    return _keep(body, path.id)


@blueprint.delete("/screens/<int:id>", responses={200: Done, 404: Problem, 409: Problem})
def delete_screen(path: ScreenPath, query: RemoveQuery) -> Response:
    """Remove a screen; it can be restored."""
    if not kept.SCREENS.remove(services().owned, whose(), path.id, wall(), version=query.version):
        raise UserError(_GONE, 404)
    return reply(Done())


@blueprint.post("/screens/<int:id>/restore", responses={200: Done, 404: Problem, 409: Problem})
def restore_screen(path: ScreenPath) -> Response:
    """Take a removal back."""
    if not kept.SCREENS.restore(services().owned, whose(), path.id):
        raise UserError(_GONE, 404)
    return reply(Done())


@blueprint.post("/screens/<int:id>/look", responses={200: LookReply, 404: Problem, 422: Problem})
def record_look(path: ScreenPath, body: LookRequest) -> Response:
    """Remember what a saved screen shows now, and say what it showed before."""
    engine = services().owned
    if kept.SCREENS.one(engine, whose(), path.id) is None:
        raise UserError(_GONE, 404)
    before = kept.record_look(engine, path.id, market_name(), body.session, body.moment, body.symbols, wall())
    look = before and Look(
        session=before.session,
        moment=before.moment and before.moment.replace(tzinfo=dt.UTC).astimezone(view().hours.zone),
        looked_at=before.looked_at.replace(tzinfo=dt.UTC),
        symbols=before.symbols,
    )
    return reply(LookReply(before=look))


def _keep(body: ScreenDraft, id: int | None) -> Response:
    values = body.model_dump(mode="json", exclude={"version"}) | {"changed_at": kept.plain(wall())}
    values["name"] = body.name.strip() or body.name
    row = kept.SCREENS.save(services().owned, whose(), values, id, version=body.version)
    if row is None:
        raise UserError(_GONE, 404)
    return reply(_saved(row))


def _saved(row: Row) -> SavedScreen:
    return SavedScreen(
        id=row.id,
        version=row.version,
        name=row.name,
        description=row.description,
        tags=row.tags,
        body=ScreenBody(**row.body),
        changed_at=row.changed_at.replace(tzinfo=dt.UTC),
    )
