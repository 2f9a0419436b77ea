"""Tripwires: made, armed, and what they told."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.clock import wall
from flinch.features.tripwires import service
from flinch.features.tripwires.schemas import (
    AllTripsQuery,
    ArmAsked,
    Before,
    BeforeAsked,
    Seen,
    SeenAsked,
    TripsQuery,
    TripsView,
    TripwireDraft,
    TripwireInfo,
    TripwirePath,
    TripwiresView,
)
from flinch.market import View
from flinch.store.owned.kept import TRIPWIRES, plain
from flinch.store.owned.models import Trip, Tripwire
from flinch.store.owned.trips import (
    Told,
    count_trips,
    read_remembered,
    read_trips,
    read_watched,
    see_trips,
)
from flinch.web import ERRORS, Done, Problem, RemoveQuery, UserError, dictionary, reply, services, view, whose

blueprint = APIBlueprint("tripwires", __name__, url_prefix="/api/tripwires", abp_responses=ERRORS)

_GONE = Problem(type="no_such_tripwire", message="This tripwire is not there any more. Nothing was changed.")
_NOTHING = Told(0, 0, None)


@blueprint.get("", responses={200: TripwiresView})
def read_tripwires() -> Response:
    """Every tripwire of this market, and how it stands."""
    now, owned, mine = view(), services().owned, whose()
    rows = TRIPWIRES.all(owned, mine)
    told, remembered = count_trips(owned, mine), read_remembered(owned, [row.id for row in rows])
    watched, parked_count = read_watched(owned, mine.market), service.count_parked(now, owned, mine, dictionary())
    return reply(
        TripwiresView(
            tripwires=[
                service.info(now, owned, mine, row, told.get(row.id, _NOTHING), remembered.get(row.id), parked_count)
                for row in rows
            ],
            watched=None if watched is None else watched.astimezone(now.hours.zone),
        )
    )


@blueprint.post("", responses={200: TripwireInfo, 404: Problem, 409: Problem, 422: Problem})
def add_tripwire(body: TripwireDraft) -> Response:
    """Make a tripwire, and arm it unless it is to wait."""
    return _keep(body, None)


@blueprint.put("/<int:id>", responses={200: TripwireInfo, 404: Problem, 409: Problem, 422: Problem})
def change_tripwire(path: TripwirePath, body: TripwireDraft) -> Response:
    """Change one; nothing is remembered of what it waited for before."""
    return _keep(body, path.id)


@blueprint.post("/<int:id>/arm", responses={200: TripwireInfo, 404: Problem, 409: Problem})
def arm_tripwire(path: TripwirePath, body: ArmAsked) -> Response:
    """Let it watch from now on, or no more."""
    now = view()
    armed_at = plain(now.as_of) if body.armed else None
    row = TRIPWIRES.save(services().owned, whose(), {"armed_at": armed_at}, path.id)
    return _told(now, row)


@blueprint.delete("/<int:id>", responses={200: Done, 404: Problem, 409: Problem})
def delete_tripwire(path: TripwirePath, query: RemoveQuery) -> Response:
    """Remove one; it can be put back. What it told stays."""
    if not TRIPWIRES.remove(services().owned, whose(), path.id, wall(), version=query.version):
        raise UserError(_GONE, 404)
    services().watcher.wake()
    return reply(Done())


@blueprint.post("/<int:id>/restore", responses={200: Done, 404: Problem, 409: Problem})
def restore_tripwire(path: TripwirePath) -> Response:
    """Put one back."""
    if not TRIPWIRES.restore(services().owned, whose(), path.id):
        raise UserError(_GONE, 404)
    services().watcher.wake()
    return reply(Done())


@blueprint.get("/<int:id>/trips", responses={200: TripsView, 404: Problem})
def read_trips_of(path: TripwirePath, query: TripsQuery) -> Response:
    """What one has told, the newest first."""
    owned, mine = services().owned, whose()
    if TRIPWIRES.one(owned, mine, path.id) is None:
        raise UserError(_GONE, 404)
    return _trips(read_trips(owned, mine, tripwire_id=path.id, count=query.count))


@blueprint.get("/trips", responses={200: TripsView, 422: Problem})
def read_all_trips(query: AllTripsQuery) -> Response:
    """What all have told, the newest first."""
    rows = read_trips(services().owned, whose(), after=query.after, unseen=query.unseen, count=query.count)
    return _trips(rows)


@blueprint.post("/trips/seen", responses={200: Seen, 422: Problem})
def see(body: SeenAsked) -> Response:
    """Somebody has looked at some trips."""
    return reply(Seen(seen=see_trips(services().owned, whose(), body.ids, wall())))


@blueprint.post("/before", responses={200: Before, 422: Problem})
def how_often(body: BeforeAsked) -> Response:
    """How often a tripwire would have tripped in the sessions held."""
    return reply(service.before(view(), services().owned, whose(), dictionary(), body))


def _trips(rows: list[Trip]) -> Response:
    owned, mine = services().owned, whose()
    tripwires = {row.id: row for row in TRIPWIRES.all(owned, mine)}
    return reply(TripsView(trips=service.trip_rows(view(), owned, mine, rows, tripwires)))


def _keep(body: TripwireDraft, id: int | None) -> Response:
    now, owned, mine = view(), services().owned, whose()
    service.sound(now, owned, mine, dictionary(), body)
    parked = service.kept_now(now, owned, mine, dictionary(), body.parked) if body.keep else body.parked
    values = {
        "name": body.name.strip(),
        "parked": parked.model_dump(),
        "rule": body.rule.model_dump(),
        "again": body.again.model_dump(),
        "why": body.why,
        "note": body.note.strip(),
        "armed_at": plain(now.as_of) if body.armed else None,
        "changed_at": plain(wall()),
    }
    return _told(now, TRIPWIRES.save(owned, mine, values, id, version=body.version))


def _told(now: View, row: Tripwire | None) -> Response:
    if row is None:
        raise UserError(_GONE, 404)
    services().watcher.wake()
    owned, mine = services().owned, whose()
    told = count_trips(owned, mine).get(row.id, _NOTHING)
    remembered = read_remembered(owned, [row.id]).get(row.id)
    parked_count = service.count_parked(now, owned, mine, dictionary())
    return reply(service.info(now, owned, mine, row, told, remembered, parked_count))
