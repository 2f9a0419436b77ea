"""Own lines: prices that a user marks on names."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.clock import wall
from flinch.features.lines import service
from flinch.features.lines.schemas import LineDraft, LinePath, LinesQuery, LinesView, NamePath, OwnLine
from flinch.store.owned.kept import OWN_LINES, TooMany
from flinch.store.owned.models import OwnLine as Row
from flinch.web import ERRORS, Done, Problem, RemoveQuery, UserError, reply, services, view, whose

blueprint = APIBlueprint("lines", __name__, url_prefix="/api/lines", abp_responses=ERRORS)

MOST_A_NAME = 40
_GONE = Problem(type="no_such_line", message="This line is not there any more. Nothing was changed.")


@blueprint.get("/of/<path:symbol>", responses={200: LinesView, 404: Problem, 422: Problem})
def read_lines(path: NamePath, query: LinesQuery) -> Response:
    """One name's lines: how far they are, and the chance to touch each by a day."""
    kept = OWN_LINES.all(services().owned, whose())
    return reply(service.lines(view(query.as_of), kept, path.symbol, query.by))


@blueprint.post("", responses={200: OwnLine, 404: Problem, 409: Problem, 422: Problem})
def add_line(body: LineDraft) -> Response:
    """Put a line at a price."""
    return _keep(body, None)


@blueprint.put("/<int:id>", responses={200: OwnLine, 404: Problem, 409: Problem, 422: Problem})
def change_line(path: LinePath, body: LineDraft) -> Response:
    """Move a line, name it, note why."""
    return _keep(body, path.id)


@blueprint.delete("/<int:id>", responses={200: Done, 404: Problem, 409: Problem})
def delete_line(path: LinePath, query: RemoveQuery) -> Response:
    """Take a line away; it can be put back."""
    if not OWN_LINES.remove(services().owned, whose(), path.id, wall(), version=query.version):
        raise UserError(_GONE, 404)
    return reply(Done())


@blueprint.post("/<int:id>/restore", responses={200: Done, 404: Problem, 409: Problem})
def restore_line(path: LinePath) -> Response:
    """Put a line back."""
    if not OWN_LINES.restore(services().owned, whose(), path.id):
        raise UserError(_GONE, 404)
    return reply(Done())


def _keep(body: LineDraft, id: int | None) -> Response:
    now = view()
    symbol = now.name(now.row(body.symbol)).symbol

    def sound(kept: list[Row]) -> None:
        before = next((line for line in kept if line.id == id), None)
        if before is not None and before.price == body.price:
            # A line is known from the session in which it was put where it stands.
            values["since"] = before.since
        if sum(line.symbol == symbol and line.id != id for line in kept) >= MOST_A_NAME:
            raise TooMany(MOST_A_NAME)

    values = {
        "symbol": symbol, "name": body.name.strip(), "price": body.price, "note": body.note.strip(), "since": now.today
    }  # fmt: skip
    row = OWN_LINES.save(services().owned, whose(), values, id, version=body.version, sound=sound)
    if row is None:
        raise UserError(_GONE, 404)
    told = {key: getattr(row, key) for key in OwnLine.model_fields}
    return reply(OwnLine(**told))
