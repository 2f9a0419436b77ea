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
from flinch.core.interrupt import TooCostly
from flinch.core.rules import RuleError
from flinch.features.baskets.routes import blueprint as baskets
from flinch.features.dossier.routes import blueprint as dossier
from flinch.features.frame.routes import blueprint as frame
from flinch.features.handbook.routes import blueprint as handbook
from flinch.features.lineup.routes import blueprint as lineup
from flinch.features.screen.routes import blueprint as screen
from flinch.features.tray.routes import blueprint as tray
from flinch.market import MarketHolder, MarketNotReady, UnknownName
from flinch.screening.groups import NoSuchGroup
from flinch.settings import Settings
from flinch.store.engine import DatabaseAway, DiskFull, OutcomeUnknown, is_away, is_full, make_engine
from flinch.store.owned.kept import ChangedElsewhere, NameTaken, TooMany
from flinch.web import Problem, Services, UserError, reply, rule_problem
from flinch.web.guard import add_headers, refuse_foreign_hosts, refuse_other_origins, refuse_unreadable_bodies
from flinch.web.keys import answer_again, leave_key, remember_answer
from flinch.web.lane import SECONDS, CallerGone, DeadlineReached, LaneFull, begin_request, end_request

_AWAY = Problem(
    type="database_away",
    message="The database does not answer. Nothing was changed; Flinch asks again by itself until it is back.",
)

_UNKNOWN = Problem(
    type="outcome_unknown",
    message="The database went away while it kept this change, so whether it did is not known. Flinch asks again by itself under "
    "the same key, which does nothing twice.",
)
_NO_ROOM = Problem(
    type="disk_full",
    message="The disk that the database writes to is full. Nothing was changed. Make room on it and try again.",
)


def create_app(settings: Settings) -> OpenAPI:
    """The application on a migrated database; it may be started before a market is loaded."""
    app = OpenAPI(
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
    market, owned = (make_engine(url, patient=False) for url in (settings.market_url, settings.owned_url))
    app.extensions["flinch"] = Services(market, owned, MarketHolder(market))
    for blueprint in (frame, screen, dossier, lineup, tray, baskets, handbook):
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
    return reply(Problem(type="bad_request", message=f"{place}: {first['msg']}.", where=place), 422)


def _answer_errors(app: OpenAPI) -> None:
    @app.errorhandler(UserError)
    def user_error(error: UserError) -> Response:
        return reply(error.problem, error.status)

    @app.errorhandler(UnknownName)
    def unknown_name(error: UnknownName) -> Response:
        hint = f" Did you mean {' or '.join(error.nearest)}?" if error.nearest else " Look it up with the search above."
        message = f"No name with the symbol {error.symbol[:20]!r} is listed.{hint}"
        return reply(Problem(type="unknown_name", message=message, where=error.symbol[:64], nearest=error.nearest), 404)

    @app.errorhandler(NoSuchGroup)
    def no_such_group(error: NoSuchGroup) -> Response:
        return reply(Problem(type="no_such_group", message=str(error), where="universe"), 422)

    @app.errorhandler(NameTaken)
    def name_taken(error: NameTaken) -> Response:
        message = (
            f"The name {error.name!r} is taken. Choose another, or replace the one that has it. Nothing was changed."
        )
        return reply(Problem(type="name_taken", message=message, where=str(error.id)), 409)

    @app.errorhandler(ChangedElsewhere)
    def changed(error: ChangedElsewhere) -> Response:
        message = f"{error.name} was changed in another window since it was read here. Nothing was changed by this one."
        return reply(Problem(type="changed_elsewhere", message=message, where="version", version=error.version), 409)

    @app.errorhandler(TooMany)
    def too_many(error: TooMany) -> Response:
        message = f"{error.most} are kept at most. Remove some first; nothing was changed."
        return reply(Problem(type="too_many", message=message), 409)

    @app.errorhandler(RuleError)
    def rule_error(error: RuleError) -> Response:
        return reply(rule_problem(error), 422)

    @app.errorhandler(DeadlineReached)
    def late(error: DeadlineReached) -> Response:
        message = (
            f"This took longer than the {SECONDS:.0f} seconds that a request may take and was stopped. Ask for less."
        )
        return reply(Problem(type="too_slow", message=message), 503)

    @app.errorhandler(TooCostly)
    def costly(error: TooCostly) -> Response:
        message = (
            f"This would take about {error.seconds:.1f} seconds of computing; one request may take {error.most:.0f}. "
            "Use shorter windows, or fewer rules and columns at once."
        )
        return reply(Problem(type="too_costly", message=message, where="rules"), 422)

    @app.errorhandler(CallerGone)
    def alone(error: CallerGone) -> Response:
        return reply(Problem(type="caller_gone", message="Nobody waits for this answer."), 503)

    @app.errorhandler(LaneFull)
    def full(error: LaneFull) -> Response:
        message = "Too much is asked at once. Wait a moment; Flinch asks again by itself."
        answer = reply(Problem(type="busy", message=message), 503)
        answer.headers["Retry-After"] = "2"
        return answer

    @app.errorhandler(MarketNotReady)
    def not_ready(error: MarketNotReady) -> Response:
        message = "The market is still being loaded. This page shows it as soon as it is there."
        return reply(Problem(type="market_not_ready", message=message), 503)

    @app.errorhandler(DatabaseAway)
    def away(error: DatabaseAway) -> Response:
        return reply(_UNKNOWN if isinstance(error, OutcomeUnknown) else _AWAY, 503)

    @app.errorhandler(DiskFull)
    def full_disk(error: DiskFull) -> Response:
        return reply(_NO_ROOM, 507)

    @app.errorhandler(DBAPIError)
    def database(error: DBAPIError) -> Response:
        if is_full(error):
            return reply(_NO_ROOM, 507)
        if is_away(error):
            return reply(_AWAY, 503)
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
