from __future__ import annotations

import datetime as dt

import numpy as np
from flask import Response, request
from flask_openapi3 import APIBlueprint

from flinch.core.rules import percent
from flinch.core.volatility import LOOKBACK, historical_vol
from flinch.features.frame.run import let_run, run_of
from flinch.features.frame.schemas import (
    Coming,
    Fact,
    JobPath,
    LastHeadline,
    MarketInfo,
    NameList,
    NameRow,
    Peek,
    PeekQuery,
    PlayedInfo,
    RunAsked,
    RunInfo,
    SymbolPath,
)
from flinch.live import moment
from flinch.market import PLAIN, View, played_sessions
from flinch.market.headlines import headlines
from flinch.serving import STAY, Stream
from flinch.store.market.prints import read_print_sessions
from flinch.store.market.tape import read_tape_sessions
from flinch.web import ERRORS, AsOfQuery, Done, Problem, market, owner, reply, services, view
from flinch.web.files import RESPONSES, answer_file

PEEK_METRICS = (
    "price", "change_pct", "avg_volume_50", "market_cap", "avg_option_volume_21", "atm_width", "iv30", "hv21", "iv_hv_ratio",
    "iv_rank", "iv_percentile", "one_day_move_pct", "next_day_move_pct", "spent", "days_to_earnings",
)  # fmt: skip

NEWS_SESSIONS = 5
"""A headline that is as many sessions old is no news."""

_EVENT = {
    "type": "object",
    "required": ["event", "data"],
    "properties": {
        "id": {"type": "string", "description": "The version, of a moment"},
        "event": {"type": "string", "enum": ["moment", "here"]},
        "data": {"type": "string", "contentMediaType": "application/json"},
    },
}

blueprint = APIBlueprint("frame", __name__, url_prefix="/api", abp_responses=ERRORS)


@blueprint.get("/market", responses={200: MarketInfo})
def read_market() -> Response:
    """What is loaded, and its as-of instant."""
    now = view()
    sessions = now.sessions
    here = market()
    coming = here.holder.coming()
    return reply(
        MarketInfo(
            market=here.name,
            source=now.source,
            as_of=now.as_of,
            zone=now.hours.zone.key,
            version=now.data_version,
            names=len(now.frame.names),
            sessions=sessions,
            played=played_sessions(now),
            opens=f"{now.hours.usual[0]:%H:%M}",
            coming=None if coming is None else Coming(what=coming[0], percent=coming[1]),
        )
    )


@blueprint.get("/played", responses={200: PlayedInfo, 404: Problem})
def read_played(query: AsOfQuery) -> Response:
    """What is known at a minute of a session that is played again."""
    now = view(query.as_of)
    return reply(
        PlayedInfo(
            session=now.today,
            moment=now.as_of,
            opens=now.hours.opens(now.today),
            closes=now.hours.closes(now.today),
            chains=_looked_at(now),
            trades=now.today in read_tape_sessions(now.store),
            prints=now.today in read_print_sessions(now.store),
        )
    )


def _looked_at(now: View) -> dt.datetime | None:
    """The last look at the chains: one that is kept, or the close before, of which what was read stays."""
    before = now.hours.closes(now.date(now.last - 1)) if now.last else None
    kept = now.snapshots[-1].taken_at.astimezone(now.hours.zone) if now.snapshots else before
    return kept if kept is None or before is None else max(kept, before)


@blueprint.get("/run", responses={200: RunInfo})
def read_how_it_runs() -> Response:
    """How the market runs."""
    return reply(run_of(view()))


@blueprint.put("/run", responses={200: RunInfo, 409: Problem})
def let_it_run(body: RunAsked) -> Response:
    """Let the market stand still, run, or run to a moment."""
    return reply(let_run(view(), body))


@blueprint.get(
    "/live",
    responses={
        200: {
            "description": "Server-sent events for as long as one listens. `moment`: the version that is served from now on, "
            "its instant and session, the kinds that came with it and the names that they say something of (null: everything), "
            "and how old each kind is; `version` 0 when there is none. `here`, every ten seconds: one is listened to.",
            "content": {"text/event-stream": {"schema": _EVENT}},
        }
    },
)
def listen() -> Response:
    """Be told of every moment of the market, as server-sent events."""
    live, here = services().live, market()
    live.require_room()
    told = moment(here)
    stay = request.environ.get(STAY)
    # A server that keeps no answer open tells the one moment; browsers then ask again.
    if stay is not None:

        def take(stream: Stream) -> None:
            live.listen(here.name, stream, told)

        stay(take)
    return Response(
        told, mimetype="text/event-stream", headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    )


@blueprint.delete("/jobs/<int:id>", responses={200: Done, 404: Problem})
def cancel_job(path: JobPath) -> Response:
    """Stop something that was asked for; what is over stays as it is."""
    services().jobs.cancel(path.id, owner())
    return reply(Done())


@blueprint.get("/files/<int:id>", responses={**RESPONSES, 404: Problem})
def read_file(path: JobPath) -> Response:
    """A file that was asked for, or how far it is; answered when it is whole, or after a second."""
    return answer_file(path.id)


@blueprint.delete("/files/<int:id>", responses={200: Done, 404: Problem})
def cancel_file(path: JobPath) -> Response:
    """Stop a file that is being written, or let go of it."""
    services().files.cancel(path.id, owner())
    return reply(Done())


@blueprint.get("/names", responses={200: NameList})
def list_names() -> Response:
    """Every listed name, for the jump-to-name search."""
    return reply(NameList(names=[NameRow(**name._asdict()) for name in view().frame.names]))


@blueprint.get("/peek/<path:symbol>", responses={200: Peek, 404: Problem})
def peek(path: SymbolPath, query: PeekQuery) -> Response:
    """A name at a glance, as of a session."""
    now = view(query.as_of)
    row = now.row(path.symbol)
    name, year = now.name(row), slice(-LOOKBACK, None)
    hv = historical_vol(*now.prices(row), 21, estimator="yang_zhang")[year]
    nodes = {key: PLAIN.read(key).node for key in PEEK_METRICS}
    facts = {
        key: Fact(value=float(now.column(node).values[row]), reason=now.reasons(node).get(row))
        for key, node in nodes.items()
    }
    return reply(
        Peek(
            symbol=name.symbol,
            company=name.company,
            kind=name.kind,
            sector=name.sector,
            facts=facts,
            news=_news(now, row),
            session=now.today,
            sessions=now.sessions[year],
            iv30=np.round(percent(now.implied(30, row)[year]), 3).tolist(),
            hv21=np.round(percent(hv), 3).tolist(),
        )
    )


def _news(now: View, row: int) -> LastHeadline | None:
    """The newest headline about a name itself, unless five sessions have gone by."""
    age = float(now.metric("news_age")[row])
    if not age < NEWS_SESSIONS:
        return None
    newest = headlines(now, row, 1)
    return LastHeadline(at=newest[0].at, headline=newest[0].headline) if newest else None
