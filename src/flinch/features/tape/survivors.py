"""Running a stack on tickets, and which of them are left."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.rules import Binned
from flinch.core.rules.catalogue import Scale
from flinch.errors import FlinchError
from flinch.features.tape.schemas import QuarterChosen, StackAsked
from flinch.market import Dictionary, View
from flinch.market.tickets import TicketTable, ticket_table
from flinch.screening.groups import universe
from flinch.screening.report import bins_among
from flinch.screening.run import Ran, run_stack
from flinch.store.owned.owners import Whose

QUARTER_MINUTES = 15


class NoSuchTime(FlinchError):
    """A time at which nothing was traded yet, or that has not come."""

    kind, where = "no_such_time", "until"


@dataclass(frozen=True)
class Survivors:
    """A table, how many of its sessions and which names are looked at, what became of the stack, and the tickets that are left:
    `rows`, oldest first; `shown` those of the quarter that was chosen."""

    table: TicketTable
    sessions: int
    names: BoolArray
    ran: Ran
    rows: IntArray
    shown: IntArray

    def bins_of(self, key: str, values: Callable[[], FloatArray], scale: Scale) -> Binned:
        """Bins of a number; found once for a version and a universe."""
        table = self.table
        # Baskets and the tray may hold other names a moment later.
        among = (self.sessions, self.names.tobytes())
        return table.view.version.keep(
            ("bins", key, table.view.last, table.until, among),
            lambda: bins_among(values(), self.ran.universe, scale),
            40,
        )


def moment_of(view: View, until: str | None) -> dt.datetime | None:
    """A time of the view's session as an instant; None for its end or newest moment. Raises NoSuchTime."""
    if until is None:
        return None
    moment = dt.datetime.combine(view.today, dt.time.fromisoformat(until), view.hours.zone)
    opens = view.hours.opens(view.today)
    if moment <= opens:
        raise NoSuchTime(f"Nothing is traded before {opens:%H:%M} at the exchange. Choose a later time.")
    if moment >= view.as_of:
        return None
    return moment


def find_survivors(view: View, engine: Engine, whose: Whose, dictionary: Dictionary, asked: StackAsked) -> Survivors:
    """Run a stack on the tickets of a view; raises NoSuchGroup for an unknown universe, NoSuchTime."""
    table = ticket_table(view, moment_of(view, asked.until))
    names = universe(table.names_view, engine, whose, asked.stack.universe)
    start = table.among(names, asked.sessions)
    ran = run_stack(table, dictionary, asked.stack, start)
    rows = np.flatnonzero(ran.result.survivors)
    shown = rows if asked.quarter is None else rows[in_quarter(table, rows, asked.quarter)]
    return Survivors(table, asked.sessions, names, ran, rows, shown)


def quarter_of(table: TicketTable, rows: IntArray) -> IntArray:
    """Quarter of an hour after the open in which each ticket came."""
    minutes = table.raw("minutes_since_open")[rows].astype(np.int64)
    view, (sessions, which) = table.view, np.unique(table.session[rows], return_inverse=True)
    last = np.array([quarters(view, view.date(session)) - 1 for session in sessions.tolist()], dtype=np.int64)
    place: IntArray = np.clip(minutes // QUARTER_MINUTES, 0, last[which])
    return place


def quarters(view: View, day: dt.date | None = None) -> int:
    """Quarters of an hour of a day's session, or of the longest one."""
    minutes = view.hours.most() if day is None else view.hours.minutes(day)
    return -(-minutes // QUARTER_MINUTES)


def in_quarter(table: TicketTable, rows: IntArray, quarter: QuarterChosen) -> BoolArray:
    """Which of some tickets came in a quarter of an hour."""
    session = table.view.session_on(quarter.session)
    inside: BoolArray = (table.session[rows] == session) & (quarter_of(table, rows) == quarter.place)
    return inside
