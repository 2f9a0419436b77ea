"""How the market runs: standing still, so many times as fast as the clock, or as fast as it can up to a moment."""

from __future__ import annotations

import datetime as dt

from flinch.clock import wall
from flinch.features.frame.schemas import KindAgeInfo, RunAsked, RunInfo, RunTo
from flinch.market import View
from flinch.market.age import MISSED, ages
from flinch.store.market.run import FIRST_LOOK, read_run, set_run
from flinch.web import Problem, UserError


def run_of(view: View) -> RunInfo:
    """How the market of a view runs."""
    run = read_run(view.store)
    if run is None:
        return RunInfo(goes_on=False, speed=0, until=None, behind=0.0, stopped=False, ages=[])
    until = None if run.until is None else run.until.astimezone(view.hours.zone)
    now = wall()
    stopped = not run.still and now - run.alive_at > MISSED
    told = [KindAgeInfo(**one._asdict()) for one in ages(view, run, now)]
    return RunInfo(goes_on=True, speed=run.speed, until=until, behind=run.behind, stopped=stopped, ages=told)


def let_run(view: View, asked: RunAsked) -> RunInfo:
    """Let it run otherwise. Raises UserError where its source does not go on by itself."""
    if read_run(view.store) is None:
        message = "This market has no source that goes on by itself: what is loaded is what there is."
        raise UserError(Problem(type="does_not_go_on", message=message, where="market"), 409)
    until = None if asked.to is None else moment_of(view, asked.to)
    set_run(view.store, asked.speed or 0, until)
    return run_of(view)


def moment_of(view: View, to: RunTo) -> dt.datetime:
    """The first moment of the next session that opens, the next close, or the same time of the next session, its close where that
    is outside its hours. Raises UserError where the calendar ends before."""
    now, hours = view.as_of, view.hours
    today, *after = (day.astype(object) for day in view.frame.calendar[view.last : view.last + 2])
    if to == "close" and hours.closes(today) > now:
        return hours.closes(today)
    if to == "open" and hours.opens(today) + FIRST_LOOK > now:
        return hours.opens(today) + FIRST_LOOK
    if not after:
        message = "The calendar of this market ends with this session, so there is nothing to run to."
        raise UserError(Problem(type="calendar_ends", message=message, where="to"), 409)
    [following] = after
    if to == "close":
        return hours.closes(following)
    if to == "open":
        return hours.opens(following) + FIRST_LOOK
    same = dt.datetime.combine(following, now.astimezone(hours.zone).time(), hours.zone)
    first, last = hours.opens(following) + FIRST_LOOK, hours.closes(following)
    return same if first <= same <= last else last
