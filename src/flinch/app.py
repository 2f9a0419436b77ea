"""The web application."""

from __future__ import annotations

from pathlib import Path

from flask import Response, request, send_from_directory
from flask_compress import Compress
from flask_openapi3 import Info, OpenAPI
from pydantic import ValidationError
from sqlalchemy.exc import DBAPIError
from werkzeug.exceptions import HTTPException
from werkzeug.wrappers import Response as BaseResponse

from flinch import __version__
from flinch.errors import FlinchError
from flinch.features.baskets.routes import blueprint as baskets
from flinch.features.data.imports import KIND as IMPORT
from flinch.features.data.imports import import_work
from flinch.features.data.otherwise import KIND as OTHERWISE
from flinch.features.data.otherwise import otherwise_work
from flinch.features.data.routes import blueprint as data
from flinch.features.dossier.routes import blueprint as dossier
from flinch.features.frame.routes import blueprint as frame
from flinch.features.handbook.routes import blueprint as handbook
from flinch.features.lines.routes import blueprint as lines
from flinch.features.lineup.routes import blueprint as lineup
from flinch.features.offexchange.routes import blueprint as off_exchange
from flinch.features.screen.evidence import KIND as EVIDENCE
from flinch.features.screen.evidence import evidence_work
from flinch.features.screen.routes import blueprint as screen
from flinch.features.structures.routes import blueprint as structures
from flinch.features.tape.routes import blueprint as tape
from flinch.features.tray.routes import blueprint as tray
from flinch.features.tripwires.routes import blueprint as tripwires
from flinch.files import Files
from flinch.inbox import Inbox
from flinch.jobs import Jobs
from flinch.live import Live
from flinch.market import Markets
from flinch.settings import Settings
from flinch.store.databases import Databases
from flinch.store.engine import is_away, is_full, make_engine
from flinch.store.errors import DatabaseAway, DiskFull
from flinch.store.jobs import JobTable
from flinch.store.owned.models import OwnedJob
from flinch.watching import Watcher
from flinch.web import Problem, Services, answer, reply
from flinch.web.guard import add_headers, refuse_foreign_hosts, refuse_other_origins, refuse_unreadable_bodies
from flinch.web.keys import answer_again, leave_key, remember_answer
from flinch.web.lane import begin_request, end_request

_MARKET = {
    "name": "market",
    "in": "query",
    "required": False,
    "description": "The market that the call is about; none: the one that was chosen last, first the demo",
    "schema": {"type": "string", "maxLength": 30},
}


class _Described(OpenAPI):
    """The application; its description says of every call that it may name a market."""

    def generate_spec_json(self) -> None:
        super().generate_spec_json()  # type: ignore[no-untyped-call]
        for calls in self.spec_json["paths"].values():
            for call in calls.values():
                call.setdefault("parameters", []).append(_MARKET)


def create_app(settings: Settings, databases: Databases) -> OpenAPI:
    """The application on the databases of a server; it may be started before a market is loaded."""
    app = _Described(
        __name__,
        info=Info(title="Flinch", version=__version__),
        validation_error_callback=_invalid,
        doc_prefix="/api",
        doc_url="/openapi.json",
        security_schemes={},
        static_folder=None,
    )
    app.config |= {
        "MAX_CONTENT_LENGTH": 1 << 20,
        "COMPRESS_MIN_SIZE": 1_400,
        "COMPRESS_ZSTD_LEVEL": 3,
        "COMPRESS_BR_LEVEL": 4,
    }
    owned = make_engine(databases.owned_url, patient=False)
    markets = Markets(databases, settings.columns)
    inbox = Inbox(settings.inbox)
    kinds = {
        EVIDENCE: evidence_work(markets, owned),
        IMPORT: import_work(markets, inbox),
        OTHERWISE: otherwise_work(markets, owned),
    }
    jobs = Jobs(JobTable(owned, OwnedJob), kinds, long={IMPORT, OTHERWISE})
    live = Live(markets)
    watcher = Watcher(owned, markets, live)
    app.extensions["flinch"] = Services(owned, markets, jobs, Files(), inbox, live, watcher)
    for blueprint in (
        frame,
        screen,
        dossier,
        tape,
        off_exchange,
        structures,
        lineup,
        lines,
        tray,
        tripwires,
        baskets,
        data,
        handbook,
    ):
        app.register_api(blueprint)
    _serve_interface(app, settings.interface)
    _answer_errors(app)
    for check in (begin_request, refuse_foreign_hosts, refuse_other_origins, refuse_unreadable_bodies, answer_again):
        app.before_request(check)
    # What is registered last looks at an answer first: it is kept as it is, and goes out compressed.
    Compress(app)
    app.after_request(remember_answer)
    app.after_request(add_headers)
    app.teardown_request(end_request)
    app.teardown_request(leave_key)
    return app


def _invalid(error: ValidationError) -> BaseResponse:
    first = error.errors()[0]
    place = ".".join(str(part) for part in first["loc"]) or "body"
    said = first["msg"].removeprefix("Value error, ").rstrip(".")
    return reply(Problem(type="bad_request", message=f"{place}: {said}.", where=place), 422)


def _answer_errors(app: OpenAPI) -> None:
    app.register_error_handler(FlinchError, answer)

    @app.errorhandler(DBAPIError)
    def database(error: DBAPIError) -> Response:
        if is_full(error):
            return answer(DiskFull())
        if is_away(error):
            return answer(DatabaseAway())
        raise error

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> BaseResponse | HTTPException:
        if not request.path.startswith("/api/"):
            return error
        message = f"{error.name}: {error.description}"
        return reply(
            Problem(type=error.name.lower().replace(" ", "_"), message=message, where=request.path), error.code or 500
        )


def _serve_interface(app: OpenAPI, folder: Path) -> None:
    @app.route("/api/<path:rest>")
    def unknown_api(rest: str) -> Response:
        return reply(Problem(type="not_found", message="There is no such address.", where=f"/api/{rest[:200]}"), 404)

    @app.route("/assets/<path:name>")
    def asset(name: str) -> Response:
        # Their names change with their content. Read whole, because what is streamed would not be compressed for every browser.
        answer = send_from_directory(folder / "assets", name, max_age=31_536_000)
        answer.direct_passthrough = False
        answer.set_data(answer.get_data())
        return answer

    @app.route("/favicon.svg")
    def favicon() -> Response:
        return send_from_directory(folder, "favicon.svg", max_age=86_400)

    @app.route("/", defaults={"page": ""})
    @app.route("/<path:page>")
    def interface(page: str) -> Response:
        return send_from_directory(folder, "index.html", max_age=0)
