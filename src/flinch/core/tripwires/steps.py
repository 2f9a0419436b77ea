"""From one moment to the next: who trips, and what is known of everybody afterwards."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, IntArray

Again = Literal["once", "session", "after"]
"""When a name may trip again: never, once in each session, or when it has been no for some minutes."""
NEVER = -1
Known = NDArray[np.int8]


class Step(NamedTuple):
    """Who trips, and what is known last: -1 never known, 0 no, 1 yes; shape (names,)."""

    trips: BoolArray
    last_known: Known


class Waiting(NamedTuple):
    """What is remembered of each name, shape (names,): what was known last; the minute from which it has been no without a yes
    (-1: it is not); the day on which it last tripped (-1: never)."""

    last_known: Known
    no_since: IntArray
    tripped_on: IntArray


def step(last_known: Known, yes: BoolArray, no: BoolArray) -> Step:
    """One moment of a rule.

    Parameters
    ----------
    last_known
        int8: -1 never known, 0 no, 1 yes.
    yes, no
        Where the rule certainly holds, and where it certainly does not; neither where it is unknown. Shapes as `last_known`.

    Returns
    -------
    A name trips where it is yes and was no when it was last known. What is unknown changes nothing, and what holds already
    when it is first known does not trip.

    Raises
    ------
    ValueError
        Where a name is both.
    """
    if np.any(yes & no):
        raise ValueError("a rule cannot hold and not hold at once")
    known = np.where(yes, 1, np.where(no, 0, last_known)).astype(np.int8)
    return Step(yes & (last_known == 0), known)


def armed(names: int) -> Waiting:
    """Of names of which nothing is known yet."""
    return Waiting(
        np.full(names, NEVER, dtype=np.int8),
        np.full(names, NEVER, dtype=np.int64),
        np.full(names, NEVER, dtype=np.int64),
    )


def watch(
    waiting: Waiting,
    yes: BoolArray,
    no: BoolArray,
    *,
    parked: BoolArray,
    minute: int,
    day: int,
    again: Again,
    after: int = 0,
) -> tuple[BoolArray, Waiting]:
    """One moment of a tripwire.

    Parameters
    ----------
    waiting
        What is remembered of the moment before.
    yes, no
        As for `step`.
    parked
        Which names are waited for now. Of one that is not, nothing is known when it is parked again; that it tripped stays.
    minute, day
        The moment, in whole minutes and days from any beginning, 0 or later.
    again, after
        When a name may trip again; "after" so many minutes of no, counted from the first moment that it was no again.

    Returns
    -------
    Who trips, shape (names,), and what is remembered. A trip that may not be again yet is none, and the name is yes.
    """
    there = np.where(parked, waiting.last_known, NEVER).astype(np.int8)
    trips, known = step(there, yes & parked, no & parked)
    never = waiting.tripped_on == NEVER
    if again == "once":
        allowed = never
    elif again == "session":
        allowed = waiting.tripped_on != day
    else:
        allowed = never | (minute - waiting.no_since >= after)
    trips &= allowed
    since = np.where(known == 0, np.where(there == 0, waiting.no_since, minute), NEVER)
    return trips, Waiting(known, since, np.where(trips, day, waiting.tripped_on))


def through(yes: BoolArray, no: BoolArray, again: Again) -> BoolArray:
    """Who would have tripped in each session, from the rule at its close; names x sessions.

    Each session counts as one moment: "after" any minutes of no is any session of no.
    """
    out = np.zeros(yes.shape, dtype=bool)
    waiting, everybody = armed(yes.shape[0]), np.ones(yes.shape[0], dtype=bool)
    for session in range(yes.shape[1]):
        out[:, session], waiting = watch(
            waiting,
            yes[:, session],
            no[:, session],
            parked=everybody,
            minute=session,
            day=session,
            again=again,
        )
    return out
