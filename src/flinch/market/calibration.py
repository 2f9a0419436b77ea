"""What the three opinions said in the past of where price would end, and what came."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray, find
from flinch.core.interrupt import checkpoint
from flinch.core.structures import BANDS, OPINIONS, inside_past, inside_smile, inside_student, variance_at_forward
from flinch.market.forecasts import forecast_spread
from flinch.market.reports import reports_inside
from flinch.market.view import View
from flinch.store.market.surfaces import read_surfaces

EVERY = 10
"""Sessions between those that are looked at: what lies closer together says nearly the same."""
LEAST_DAYS, MOST_DAYS = 4, 50
_FIRST = 63


class Record(NamedTuple):
    """Of each case (a name, a session and an expiration that is over) and band: what each opinion said (`said`, shape (opinions,
    cases, bands), decimals) and whether price ended inside (`came`, (cases, bands)); `name` and `session` are row and index."""

    name: IntArray
    session: IntArray
    said: FloatArray
    came: BoolArray


def calibration_record(view: View) -> Record:
    """The record of all names up to a view's session, made once."""
    over = view.as_of >= view.hours.closes(view.today)
    return view.version.share(("calibration", view.last, over), lambda: _make(view, over), 2)


def _make(view: View, over: bool) -> Record:
    """`over`: whether the view's own session is; what expires in it has not ended before."""
    frame = view.frame
    cases: dict[str, list[np.ndarray]] = {
        key: [] for key in ("name", "session", "ahead", "end", "date", "forward", "svi")
    }
    days = frame.sessions[: view.end]
    for place in range(view.last % EVERY + EVERY * (_FIRST // EVERY), view.last, EVERY):
        checkpoint()
        name_id, rows = read_surfaces(view.store, view.date(place))
        fits = (rows["days"] >= LEAST_DAYS) & (rows["days"] <= MOST_DAYS)
        date = days[place] + rows["days"].astype("timedelta64[D]")
        # The session of the expiration, or the last one before a holiday.
        end = np.searchsorted(days, date, "right") - 1
        name = find(frame.ids, name_id)
        fits &= (
            (name >= 0)
            & (date <= days[-1])
            & (end > place)
            & (end < view.end - (not over))
            & np.isfinite(rows["forward"])
            & np.isfinite(rows["svi"][:, 0])
        )
        mine = rows[fits]
        cases["name"].append(name[fits])
        cases["session"].append(np.full(mine.size, place))
        cases["end"].append(end[fits])
        cases["ahead"].append(end[fits] - place)
        cases["date"].append(date[fits])
        cases["forward"].append(mine["forward"].astype(np.float64))
        cases["svi"].append(mine["svi"].astype(np.float64))
    if not cases["name"]:
        nothing = np.empty(0, np.int64)
        return Record(nothing, nothing, np.empty((3, 0, len(BANDS))), np.empty((0, len(BANDS)), bool))
    told = {key: np.concatenate(parts) for key, parts in cases.items()}
    name, session, ahead = (told[key].astype(np.int64) for key in ("name", "session", "ahead"))
    with np.errstate(invalid="ignore"):
        move = np.sqrt(variance_at_forward(told["svi"]))
        moved = np.abs(frame.close[name, told["end"].astype(np.int64)] / told["forward"] - 1)
        log_close = np.log(frame.close)
    known = np.isfinite(move) & np.isfinite(moved)
    inside = reports_inside(view.frame.reports, name, days[session], told["date"])
    deviation, tail = forecast_spread(view, name, session, ahead.astype(np.float64), inside)
    said = np.empty((len(OPINIONS), name.size, len(BANDS)))
    for k, band in enumerate(BANDS):
        checkpoint()
        said[0, :, k] = inside_smile(told["svi"], band)
        said[2, :, k] = inside_student(deviation, tail, move, band)
    said[1] = inside_past(log_close, name, session, ahead, move)
    came = moved[:, None] <= np.array(BANDS) * move[:, None]
    return Record(name[known], session[known], said[:, known], came[known])
