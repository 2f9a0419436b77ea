from __future__ import annotations

from urllib.parse import quote

from flask import Response, request, send_file
from flask_openapi3 import APIBlueprint

from flinch.features.data import imports, otherwise, service
from flinch.features.data.schemas import (
    ChangesReply,
    CoverageQuery,
    CoverageReply,
    DataChecks,
    ExportQuery,
    FileLook,
    HeldKinds,
    ImportHow,
    ImportJob,
    ImportList,
    ImportPath,
    MarketChoice,
    MarketDraft,
    MarketList,
    MarketPath,
    MarketRow,
    MendAsked,
    MendPath,
    OtherwiseAsked,
    OtherwiseJob,
    PartQuery,
    PreferDraft,
    PreferPath,
    SourceList,
    UploadDraft,
    UploadPath,
    UploadRow,
)
from flinch.files import Write
from flinch.inbox import NoSuchUpload
from flinch.store.databases import DEMO
from flinch.store.owned.owners import choose_market
from flinch.web import ERRORS, Done, Problem, UserError, market_name, own_formulas, owner, reply, services
from flinch.web.files import RESPONSES, answer_file
from flinch.web.lane import COSTLY

_STAYS = Problem(
    type="stays",
    message="The demo market cannot be removed: every start would make it again. Nothing was changed.",
    where="name",
)

_MADE = Problem(
    type="made",
    message="The demo market is made by Flinch itself: make one of your own for your files. Nothing was changed.",
    where="market",
)
_WAIT_SECONDS = 1.0
_CSV = {"content": {"text/csv": {"schema": {"type": "string", "format": "binary"}}}}
_LOOKING = 1.0
"""Seconds that a look at all of a market takes, about."""

blueprint = APIBlueprint("data", __name__, url_prefix="/api", abp_responses=ERRORS)


@blueprint.get("/markets", responses={200: MarketList})
def list_markets() -> Response:
    """The markets there are, with what each has and lacks."""
    return reply(MarketList(market=market_name(), markets=service.market_rows(services().markets)))


@blueprint.get("/data/kinds", responses={200: HeldKinds})
def list_kinds() -> Response:
    """Every kind of data, and what the market has of it."""
    name = market_name()
    return reply(HeldKinds(market=name, kinds=service.kind_rows(services().markets, name)))


@blueprint.get("/data/coverage", responses={200: CoverageReply, 422: Problem})
def read_coverage(query: CoverageQuery) -> Response:
    """Which names have a kind of which of the newest sessions."""
    with COSTLY.turn(_LOOKING):
        return reply(service.coverage_told(services().markets, market_name(), query.of))


@blueprint.get("/data/checks", responses={200: DataChecks})
def read_checks() -> Response:
    """What is likely wrong with what is loaded."""
    with COSTLY.turn(_LOOKING):
        return reply(service.checks_told(services().markets, market_name()))


@blueprint.get("/data/export", responses={**RESPONSES, 422: Problem})
def export(query: ExportQuery) -> Response:
    """Kinds of the market as files that can be loaded again, in a ZIP with an index."""
    running, name = services(), market_name()
    work = service.export_work(running.markets, name, query.of, query.form)
    title = quote(f"{name} {query.of}.zip", safe="")
    disposition = f"attachment; filename=\"{name}.zip\"; filename*=UTF-8''{title}"
    return answer_file(
        running.files.begin(
            owner(), Write(work, "application/zip", disposition, long=f"{name} {query.of} {query.form}")
        )
    )


@blueprint.get("/data/sources", responses={200: SourceList})
def list_sources() -> Response:
    """Who tells of each kind, and where they disagree."""
    with COSTLY.turn(_LOOKING):
        return reply(service.sources_told(services().markets, market_name()))


@blueprint.put("/data/sources/<string:kind>", responses={200: ImportJob, 409: Problem, 422: Problem})
def prefer(path: PreferPath, body: PreferDraft) -> Response:
    """Say which source of a kind is preferred; it can be undone as an import can."""
    return _job(imports.begin_prefer(services().jobs, _own(), path.kind, body.order, owner()))


@blueprint.post("/data/sources/<string:kind>/otherwise", responses={200: OtherwiseJob, 409: Problem, 422: Problem})
def ask_otherwise(path: PreferPath, body: OtherwiseAsked) -> Response:
    """Ask which screens would answer otherwise if another source of a kind were preferred; nothing is changed."""
    imports.require_told(path.kind)
    running = services()
    begun = otherwise.begin(running.jobs, market_name(), path.kind, body.source, own_formulas(), owner())
    return _otherwise(begun)


@blueprint.get("/data/otherwise/<int:id>", responses={200: OtherwiseJob, 404: Problem, 409: Problem})
def read_otherwise(path: UploadPath) -> Response:
    """How that stands, and what was found."""
    return _otherwise(path.id)


def _otherwise(number: int) -> Response:
    jobs = services().jobs
    return reply(otherwise.job_told(jobs, jobs.look(number, owner(), _WAIT_SECONDS, kind=otherwise.KIND)))


@blueprint.post("/data/checks/<string:check>/mend", responses={200: ImportJob, 409: Problem})
def mend(path: MendPath, body: MendAsked) -> Response:
    """Mend what a check finds; it can be undone as an import can."""
    return _job(imports.begin_mend(services().jobs, _own(), path.check, body, owner()))


@blueprint.post("/markets", responses={200: MarketRow, 409: Problem, 422: Problem})
def make_market(body: MarketDraft) -> Response:
    """An empty market."""
    markets = services().markets
    markets.make(body.name, service.settings_of(body))
    return reply(service.market_row(markets, body.name))


@blueprint.get("/markets/chosen", responses={200: MarketChoice})
def read_choice() -> Response:
    """The market that requests which name none are about."""
    return reply(MarketChoice(market=market_name()))


@blueprint.put("/markets/chosen", responses={200: Done, 404: Problem})
def choose(body: MarketChoice) -> Response:
    """Let requests that name no market be about this one."""
    running = services()
    running.markets.require(body.market)
    choose_market(running.owned, owner(), body.market)
    return reply(Done())


@blueprint.delete("/markets/<string:name>", responses={200: Done, 404: Problem, 409: Problem})
def remove_market(path: MarketPath) -> Response:
    """Remove a market's data for good; tray, lines, plans and baskets of it stay, for when one of its name is made again."""
    if path.name == DEMO:
        raise UserError(_STAYS, 409)
    markets = services().markets
    markets.require(path.name)
    markets.remove(path.name)
    services().inbox.forget(path.name)
    return reply(Done())


@blueprint.get("/imports", responses={200: ImportList})
def list_imports() -> Response:
    """Files that were brought, and what was loaded."""
    running = services()
    return reply(imports.import_list(running.markets, running.inbox, market_name()))


@blueprint.post("/imports", responses={200: UploadRow, 409: Problem, 422: Problem})
def bring_file(body: UploadDraft) -> Response:
    """A place for a file, which then comes in parts."""
    return reply(imports.upload_row(services().inbox.begin(_own(), body.name, body.size)))


@blueprint.put("/imports/<int:id>/part", responses={200: UploadRow, 404: Problem, 409: Problem, 422: Problem})
def bring_part(path: UploadPath, query: PartQuery) -> Response:
    """A part of a file, as the body; one that is here already is no mistake."""
    return reply(imports.take_part(services().inbox, _own(), path.id, query.at, request.get_data()))


@blueprint.delete("/imports/<int:id>", responses={200: Done, 404: Problem, 409: Problem})
def put_away(path: UploadPath) -> Response:
    """Put a file away; what was loaded of it stays."""
    services().inbox.put_away(_own(), path.id)
    return reply(Done())


@blueprint.post("/imports/<int:id>/look", responses={200: FileLook, 404: Problem, 409: Problem, 422: Problem})
def look_at_file(path: UploadPath, body: ImportHow) -> Response:
    """A file's kind, its columns with a sample, and what has to be said before it can be loaded."""
    running = services()
    return reply(imports.file_look(running.markets, running.inbox, _own(), path.id, body))


@blueprint.post("/imports/<int:id>/check", responses={200: ImportJob, 404: Problem, 409: Problem, 422: Problem})
def check_file(path: UploadPath, body: ImportHow) -> Response:
    """What would come of a file; nothing is changed."""
    return _begun(path.id, body, load=False)


@blueprint.post("/imports/<int:id>/load", responses={200: ImportJob, 404: Problem, 409: Problem, 422: Problem})
def load_file(path: UploadPath, body: ImportHow) -> Response:
    """Load a file: good rows are written, the others are handed back."""
    return _begun(path.id, body, load=True)


@blueprint.get("/imports/<int:id>/refused", responses={200: _CSV, 404: Problem, 409: Problem})
def read_refused(path: UploadPath) -> Response:
    """The rows of a file that were refused, with line and reason."""
    inbox, name = services().inbox, _own()
    upload, file = inbox.one(name, path.id), inbox.refused(name, path.id)
    if not file.exists():
        raise NoSuchUpload
    answer = send_file(file, mimetype="text/csv", max_age=0, etag=False)
    title = quote(f"{upload.name.split('.')[0]}.refused.csv", safe="")
    answer.headers["Content-Disposition"] = f"attachment; filename=\"refused.csv\"; filename*=UTF-8''{title}"
    return answer


@blueprint.get("/imports/history/<int:id>/changes", responses={200: ChangesReply})
def read_import_changes(path: ImportPath) -> Response:
    """The first values that an import changed, as they were before it and as they are now; those of the last imports are kept."""
    return reply(imports.changes(services().markets, market_name(), path.id))


@blueprint.post("/imports/history/<int:id>/undo", responses={200: ImportJob, 409: Problem})
def undo_import(path: ImportPath) -> Response:
    """Bring back what was there before the newest import."""
    return _job(imports.begin_undo(services().jobs, _own(), path.id, owner()))


@blueprint.get("/imports/jobs/<int:id>", responses={200: ImportJob, 404: Problem, 409: Problem, 422: Problem})
def read_import_job(path: ImportPath) -> Response:
    """How work on an import stands; answered when it is over, or after a second."""
    return _job(path.id)


def _begun(number: int, how: ImportHow, *, load: bool) -> Response:
    running = services()
    return _job(imports.begin(running.jobs, running.inbox, _own(), number, how, owner(), load=load))


def _job(number: int) -> Response:
    jobs = services().jobs
    return reply(imports.job_told(jobs, jobs.look(number, owner(), _WAIT_SECONDS, kind=imports.KIND)))


def _own() -> str:
    """The request's market, into which files may be loaded."""
    name = market_name()
    if name == DEMO:
        raise UserError(_MADE, 409)
    return name
