"""What the three opinions said in the past of where price would end, and what came."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray, find
from flinch.core.interrupt import checkpoint
from flinch.core.rolling import lag
from flinch.core.rules import evaluate
from flinch.core.rules.catalogue.metric import PERCENT
from flinch.core.structures import BANDS, OPINIONS, inside_past, inside_smile, inside_student, variance_at_forward
from flinch.market.boards import SIZE_TO_DEVIATION
from flinch.market.dictionary import PLAIN
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
    return view.version.share(("calibration", view.last), lambda: _make(view), 2)


def _make(view: View) -> Record:
    frame = view.frame
    cases: dict[str, list[np.ndarray]] = {key: [] for key in ("name", "session", "ahead", "end", "forward", "svi")}
    days = frame.sessions[: view.end]
    for place in range(view.last % EVERY + EVERY * (_FIRST // EVERY), view.last, EVERY):
        checkpoint()
        name_id, rows = read_surfaces(view.store, view.date(place))
        fits = (rows["days"] >= LEAST_DAYS) & (rows["days"] <= MOST_DAYS)
        date = days[place] + rows["days"].astype("timedelta64[D]")
        # The session of the expiration, or the last one before a holiday.
        end = np.searchsorted(days, date, "right") - 1
        name = find(frame.ids, name_id)
        fits &= (name >= 0) & (date <= days[-1]) & (end > place) & np.isfinite(rows["forward"]) & np.isfinite(rows["svi"][:, 0])
        mine = rows[fits]
        cases["name"].append(name[fits])
        cases["session"].append(np.full(mine.size, place))
        cases["end"].append(end[fits])
        cases["ahead"].append(end[fits] - place)
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
    deviation, tail = _forecast(view, name, session, ahead)
    said = np.empty((len(OPINIONS), name.size, len(BANDS)))
    for k, band in enumerate(BANDS):
        checkpoint()
        said[0, :, k] = inside_smile(told["svi"], band)
        said[2, :, k] = inside_student(deviation, tail, move, band)
    said[1] = inside_past(log_close, name, session, ahead, move)
    came = moved[:, None] <= np.array(BANDS) * move[:, None]
    return Record(name[known], session[known], said[:, known], came[known])


def _forecast(view: View, name: IntArray, session: IntArray, ahead: IntArray) -> tuple[FloatArray, FloatArray]:
    """Deviation of the logarithm at the volatility that was forecast in a session, with the usual move of a report that was
    known to come inside, and the name's own tail up to then."""
    frame, end = view.frame, view.end
    forecast = np.asarray(frame.derived["forecast_vol"][:, :end], np.float64)
    usual = np.asarray(evaluate([PLAIN.read("average_earnings_move").node], view.panel, 0, end)[0]) / PERCENT
    reported = np.zeros((forecast.shape[0], end + 1))
    for row, reports in frame.reports.items():
        for report in reports:
            place = int(np.searchsorted(frame.sessions, np.datetime64(report.session, "D")))
            place += report.timing != "before_open"
            if place < end:
                reported[row, place + 1] += 1
    reported = np.cumsum(reported, axis=1)
    inside = reported[name, session + ahead + 1] - reported[name, session + 1]
    variance = forecast[name, session] ** 2 * ahead / 252
    variance = variance + inside * np.nan_to_num((usual[name, session] * SIZE_TO_DEVIATION) ** 2)
    with np.errstate(invalid="ignore", divide="ignore"):
        step = np.log(frame.close[:, :end] / lag(np.ascontiguousarray(frame.close[:, :end]), 1))
        returns = step / (lag(forecast, 1) / np.sqrt(252))
    there = np.isfinite(returns)
    x = np.where(there, returns, 0.0)
    count = np.cumsum(there, axis=1)
    powers = [np.cumsum(x**p, axis=1) for p in (1, 2, 3, 4)]
    with np.errstate(invalid="ignore", divide="ignore"):
        one, two, three, four = (total / count for total in powers)
        centred = four - 4 * one * three + 6 * one**2 * two - 3 * one**4
        excess = centred / (two - one**2) ** 2 - 3
        tail = 4 + 6 * ahead / np.maximum(excess[name, session], 1e-9)
    known = count[name, session] >= 60
    return np.sqrt(variance), np.where(known, np.clip(tail, 3.0, 100.0), np.nan)
