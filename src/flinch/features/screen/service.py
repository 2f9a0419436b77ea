"""Running a screen and telling about it: the funnel, the columns, what changed, the small charts."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import IntArray
from flinch.core.moves import expected_move, fan
from flinch.core.rules import percent
from flinch.core.volatility import historical_vol
from flinch.features.screen.schemas import (
    Against,
    Changed,
    ColumnReply,
    Moved,
    RowsReply,
    RowsRequest,
    ScreenReply,
    ScreenRequest,
    Series,
    SeriesReply,
    SeriesRequest,
    StaleFigures,
)
from flinch.market import Dictionary, NotKept, View, view_at
from flinch.screening.columns import Described, NamedColumn, read_columns
from flinch.screening.groups import universe
from flinch.screening.order import ordered
from flinch.screening.report import rule_reports
from flinch.screening.run import Ran, run_stack
from flinch.store.owned.owners import Whose

_SHARES = (0.0, 0.02, 0.08, 0.2, 0.4, 0.65, 1.0)
"""Of the next thirty days, where a small fan is drawn."""
_USUAL = 0.93
"""Share of names that a scale shared by a column shows whole."""


def run(
    view: View,
    engine: Engine,
    whose: Whose,
    dictionary: Dictionary,
    own: dict[str, Described],
    request: ScreenRequest,
) -> ScreenReply:
    """The survivors of the rules in order, each rule's part, and what changed; raises NoSuchGroup for an unknown universe."""
    ran = run_stack(view, dictionary, request.stack, universe(view, engine, whose, request.stack.universe))
    rows = ordered(view, np.flatnonzero(ran.result.survivors), request.sort, dictionary, own)
    return ScreenReply(
        **_rows(view, dictionary, own, request, rows),
        symbols=[view.frame.names[row].symbol for row in rows],
        session=view.today,
        moment=view.as_of,
        newest=view.is_newest,
        past=view.past,
        universe=int(ran.universe.sum()),
        rules=rule_reports(own, ran, request.aim),
        changed=_changed(view, engine, whose, dictionary, request, ran) if request.against else None,
    )


def some_rows(
    view: View, engine: Engine, whose: Whose, dictionary: Dictionary, own: dict[str, Described], request: RowsRequest
) -> RowsReply:
    """A page of the survivors in the order asked for; raises NoSuchGroup for an unknown universe."""
    ran = run_stack(view, dictionary, request.stack, universe(view, engine, whose, request.stack.universe))
    rows = ordered(view, np.flatnonzero(ran.result.survivors), request.sort, dictionary, own)
    page = rows[request.first : request.first + request.count]
    return RowsReply(
        **_rows(view, dictionary, own, request, rows), symbols=[view.frame.names[row].symbol for row in page]
    )


def _rows(
    view: View, dictionary: Dictionary, own: dict[str, Described], request: RowsRequest, rows: IntArray
) -> dict[str, Any]:
    """What is told about a page of `rows`."""
    names = view.frame.names
    page = rows[request.first : request.first + request.count]
    return {
        "version": view.data_version,
        "first": request.first,
        "companies": [names[row].company for row in page],
        "sectors": [names[row].sector if names[row].kind == "stock" else f"{names[row].kind}s" for row in page],
        "columns": [
            _column(view, column, rows, page) for column in read_columns(view, dictionary, own, request.columns)
        ],
    }


def _column(view: View, column: NamedColumn, rows: IntArray, page: IntArray) -> ColumnReply:
    everybody = column.values[rows] if column.texts is None else np.empty(0)
    known = everybody[np.isfinite(everybody)]
    lowest, highest, usual = (known.min(), known.max(), np.quantile(known, _USUAL)) if known.size else [None] * 3
    return ColumnReply(
        **{key: value for key, value in column.described._asdict().items() if key != "scale"},
        error=column.error,
        numbers=column.values[page].tolist() if column.texts is None else [],
        texts=column.texts[page].tolist() if column.texts is not None else [],
        reasons={view.frame.names[row].symbol: text for row, text in column.reasons(page).items()},
        stale={view.frame.names[row].symbol: StaleFigures(**one._asdict()) for row, one in column.stale(page).items()},
        lowest=lowest,
        highest=highest,
        usual_highest=usual,
    )


def _changed(
    view: View, engine: Engine, whose: Whose, dictionary: Dictionary, request: ScreenRequest, now: Ran
) -> Changed:
    against = request.against
    assert against is not None
    try:
        before = _before(view, against)
    except NotKept as error:
        return Changed(session=view.today, reason=str(error), came_in=[], went_out=[], stayed=0)
    start = universe(before, engine, whose, request.stack.universe)
    then = run_stack(before, dictionary, request.stack, start)
    was = then.result.survivors
    if against.symbols is not None:
        was = np.isin(view.panel.texts["symbol"], against.symbols)
    present = now.result.survivors
    return Changed(
        session=before.today,
        moment=before.as_of if before.last == view.last else None,
        came_in=[_moved(view, int(row), then) for row in np.flatnonzero(present & ~was)],
        went_out=[_moved(view, int(row), now) for row in np.flatnonzero(was & ~present)],
        stayed=int((was & present).sum()),
    )


def _before(view: View, against: Against) -> View:
    """What is compared with. Raises NotKept for a moment of a session whose minutes are not kept."""
    opened = view.hours.opens(view.today)
    if against.since is not None:
        hour_ago = view.as_of - dt.timedelta(hours=1)
        return view_at(view, (opened if against.since == "open" else max(hour_ago, opened)).replace(tzinfo=None))
    if against.moment is not None:
        return view_at(view, against.moment.astimezone(view.hours.zone).replace(tzinfo=None))
    return view.at(view.session_on(against.session) if against.session else max(view.last - 1, 0))


def _moved(view: View, row: int, outside: Ran) -> Moved:
    """A name and the rules that kept it out in the session in which it was not there."""
    by: list[int] = []
    for rung in outside.rungs:
        truths = {member: truth for member in rung.members if (truth := outside.rules[member].truth) is not None}
        failing = [member for member, truth in truths.items() if not truth.yes[row]]
        if failing and (rung.mode == "all" or len(failing) == len(truths)):
            by += failing
    name = view.frame.names[row]
    return Moved(symbol=name.symbol, company=name.company, by=by if outside.universe[row] else [])


def series(view: View, request: SeriesRequest) -> SeriesReply:
    """Small charts of some names; symbols that are not listed are left out."""
    end = view.end
    first = max(0, end - request.sessions)
    rows = np.array([view.frame.index[s] for s in request.symbols if s in view.frame.index], dtype=np.int64)
    frame, part = view.frame, slice(first, end)
    prices, implied, historical = (np.full((rows.size, 0), np.nan) for _ in range(3))
    if request.what == "price":
        prices = frame.close[rows, part]
    else:
        implied = np.round(percent(frame.implied[30][rows, part]), 2)
        reach = slice(max(0, first - 22), end)
        opened, high, low, close = (a[rows, reach] for a in (frame.open, frame.high, frame.low, frame.close))
        vols = historical_vol(opened, high, low, close, 21, estimator="yang_zhang")
        historical = np.round(percent(vols[:, first - end :]), 2)
    moves = expected_move(frame.close[rows, view.last], frame.implied[30][rows, view.last], 30 / 365)
    fans = fan(moves[:, None], np.array(_SHARES), 1.0)
    return SeriesReply(
        sessions=view.sessions[part],
        shares=list(_SHARES),
        series=[
            Series(
                symbol=frame.names[row].symbol,
                close=prices[place].tolist(),
                implied=implied[place].tolist(),
                historical=historical[place].tolist(),
                fan=fans[place].tolist(),
            )
            for place, row in enumerate(rows)
        ],
    )
