"""How old each kind of data of a market that goes on is, against what its calendar promises (*age*)."""

from __future__ import annotations

import datetime as dt
from typing import Literal, NamedTuple

from flinch.market.view import View
from flinch.store.market.run import Run

Age = Literal["fresh", "late", "stopped", "closed"]
CADENCE = {
    "minute_bars": dt.timedelta(minutes=1),
    "option_trades": dt.timedelta(minutes=1),
    "prints": dt.timedelta(minutes=1),
    "chains": dt.timedelta(minutes=5),
}
"""How often each kind comes while a session runs."""
_FRESH, _STOPPED = 2, 5
"""In cadences."""
MISSED = dt.timedelta(seconds=10)
"""Without a word for so long a source that is to run has stopped."""


class KindAge(NamedTuple):
    """A kind, the moment of its newest data, and how old they are."""

    kind: str
    moment: dt.datetime | None
    age: Age


def age_of(old: dt.timedelta, cadence: dt.timedelta) -> Age:
    """`fresh` up to twice the cadence, `stopped` from five times on, `late` between."""
    if old <= _FRESH * cadence:
        return "fresh"
    return "late" if old < _STOPPED * cadence else "stopped"


def ages(view: View, run: Run | None, now: dt.datetime) -> list[KindAge]:
    """Of each kind that comes while a session runs; moments in exchange time.

    Nothing is due outside the session, and of a source that stands still, or of none (`run`). One that runs to a moment as fast
    as it can is late for nothing, unless it says nothing at all. `now` is the clock's, for that.
    """
    silent = dt.timedelta(0) if run is None else now - run.alive_at
    due = run is not None and not run.still and not view.over
    behind = dt.timedelta(0)
    if run is not None and run.until is None:
        behind = dt.timedelta(seconds=run.behind) + (run.speed * silent if silent > MISSED else dt.timedelta(0))
    out = []
    for kind, cadence in CADENCE.items():
        newest: dt.datetime | None = view.as_of
        if kind == "chains":
            newest = None if view.snapshot is None else view.snapshot.taken_at.astimezone(view.hours.zone)
        age: Age = "closed"
        if due:
            since = view.hours.opens(view.today) if newest is None else newest
            dead = run is not None and run.until is not None and silent > MISSED
            age = "stopped" if dead else age_of(view.as_of - since + behind, cadence)
        out.append(KindAge(kind, newest, age))
    return out
