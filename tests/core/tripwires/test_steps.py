"""From moment to moment: who trips, and when it may again."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.tripwires import Again, armed, step, through, watch

YES, NO, UNKNOWN = "y", "n", "?"


def truth(moment: str) -> tuple[np.ndarray, np.ndarray]:
    """One letter a name."""
    letters = np.array(list(moment))
    return letters == YES, letters == NO


def tripped(moments: list[str], again: Again = "once", after: int = 0, days: list[int] | None = None) -> list[str]:
    """Of each moment, a minute after the other, which names trip: ! or a dot."""
    out, waiting = [], armed(len(moments[0]))
    for minute, moment in enumerate(moments):
        trips, waiting = watch(
            waiting,
            *truth(moment),
            parked=np.ones(len(moment), dtype=bool),
            minute=minute,
            day=days[minute] if days else 0,
            again=again,
            after=after,
        )
        out.append("".join("!" if one else "." for one in trips))
    return out


def test_a_name_trips_where_it_is_yes_and_was_no_when_it_was_last_known():
    trips, known = step(np.array([-1, 0, 1, -1, 0, 1, -1, 0, 1], np.int8), *truth("yyynnn???"))
    assert trips.tolist() == [False, True, False, *[False] * 6]
    assert known.tolist() == [1, 1, 1, 0, 0, 0, -1, 0, 1]


def test_what_cannot_be_is_refused():
    both = np.array([True])
    with pytest.raises(ValueError, match="hold and not hold"):
        step(np.array([0], np.int8), both, both)


def test_what_is_unknown_between_changes_nothing():
    assert tripped(["n", "?", "?", "y"]) == [".", ".", ".", "!"]
    assert tripped(["y", "?", "y"]) == [".", ".", "."]
    assert tripped(["?", "y"]) == [".", "."], "what holds when it is first known does not trip"


def test_once_is_once_whatever_comes():
    assert tripped(list("nynyny")) == [".", "!", ".", ".", ".", "."]


def test_each_session_trips_once_in_it_and_again_in_the_next():
    days = [0, 0, 0, 0, 1, 1, 1, 1]
    assert tripped(list("nynynyny"), "session", days=days) == [".", "!", ".", ".", ".", "!", ".", "."]


def test_after_so_many_minutes_of_no():
    # It is no for one minute, then for two, then for three.
    assert tripped(list("nynynnynnny"), "after", 3) == [*".!........", "!"]
    assert tripped(list("nynnny"), "after", 3) == [*".!...", "!"]
    assert tripped(list("nynnny"), "after", 4) == [*".!...."]
    # What is unknown between is no interruption, and no beginning.
    assert tripped(list("nyn?ny"), "after", 3) == [*".!...", "!"]
    assert tripped(list("ny?nny"), "after", 3) == [*".!...."]
    # The first trip waits for nothing.
    assert tripped(list("ny"), "after", 30) == [".", "!"]


def test_of_a_name_that_is_not_parked_nothing_is_known_when_it_is_again():
    waiting, none, all_ = armed(1), np.zeros(1, dtype=bool), np.ones(1, dtype=bool)
    told = []
    for minute, (moment, parked) in enumerate([("n", all_), ("y", none), ("y", all_), ("n", all_), ("y", all_)]):
        trips, waiting = watch(waiting, *truth(moment), parked=parked, minute=minute, day=0, again="once")
        told.append(bool(trips[0]))
    assert told == [False, False, False, False, True]
    # That it tripped stays.
    for minute, (moment, parked) in enumerate([("n", none), ("n", all_), ("y", all_)], 5):
        trips, waiting = watch(waiting, *truth(moment), parked=parked, minute=minute, day=1, again="once")
        assert not trips[0]


@given(st.lists(st.sampled_from([YES, NO, UNKNOWN]), min_size=1, max_size=30))
def test_trips_are_the_rises_of_what_is_known(moments: list[str]):
    known = [moment for moment in moments if moment != UNKNOWN]
    rises = sum(a == NO and b == YES for a, b in itertools.pairwise(known))
    assert "".join(tripped(moments, "after", 0)).count("!") == rises
    assert "".join(tripped(moments, "once")).count("!") == min(rises, 1)


def test_names_do_not_know_of_each_other():
    moments = ["nn", "yn", "ny", "yy"]
    assert tripped(moments, "after") == ["..", "!.", ".!", "!."]


def test_through_the_sessions_each_close_is_a_moment():
    rows = [truth("nyny?y"), truth("yynnny")]
    yes, no = (np.stack([row[place] for row in rows]) for place in (0, 1))
    assert through(yes, no, "session").astype(int).tolist() == [[0, 1, 0, 1, 0, 0], [0, 0, 0, 0, 0, 1]]
    assert through(yes, no, "once").astype(int).tolist() == [[0, 1, 0, 0, 0, 0], [0, 0, 0, 0, 0, 1]]
