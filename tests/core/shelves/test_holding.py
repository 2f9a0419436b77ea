"""Tests of a band on bars drawn by hand, and against a plain loop."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.shelves import OUTCOMES, Bands, Bars, band_tests


def bars(*rows):
    """High, low and close of each."""
    return Bars(*(np.array(column, float) for column in zip(*rows, strict=True)))


def band(low=100.0, high=101.0, away=1.0, first=0, last=99):
    return Bands(*(np.array([value]) for value in (low, high, away)), np.array([first]), np.array([last]))


def told(found):
    return [(int(b), int(e), int(s), OUTCOMES[o]) for _, b, e, s, o in zip(*found, strict=True)]


ABOVE, IN, BELOW = (104, 102, 103), (102, 100, 100.5), (99, 97, 98)
TOUCH = (103, 101, 101.5)


@pytest.mark.parametrize(
    ("rows", "expected"),
    [
        # Reached from above, and closes a whole `away` above it again.
        ([ABOVE, TOUCH, (103, 101.5, 102)], [(1, 2, 1, "held")]),
        # A cent less is not enough.
        ([ABOVE, TOUCH, (103, 101.5, 101.99)], [(1, 2, 1, "open")]),
        # Two closes below in a row.
        ([ABOVE, IN, (101, 99, 99.9), BELOW], [(1, 3, 1, "broke")]),
        # Two that are not in a row, and then back.
        ([ABOVE, IN, (101, 99, 99.9), IN, (101, 99, 99.9), ABOVE], [(1, 5, 1, "held")]),
        # A close on the band's edge is not beyond it.
        ([ABOVE, IN, (101, 99, 100), (101, 99, 100), ABOVE], [(1, 4, 1, "held")]),
        # The bar that reaches it may decide it.
        ([ABOVE, (104, 100.5, 103)], [(1, 1, 1, "held")]),
        # From below.
        ([BELOW, IN, (100, 97, 99)], [(1, 2, -1, "held")]),
        ([BELOW, IN, ABOVE, ABOVE], [(1, 3, -1, "broke")]),
        # It stood in the band from the beginning: nothing came to it.
        ([IN, IN, IN], []),
        # Past it without touching it is no test.
        ([ABOVE, BELOW, ABOVE], []),
        # Tested twice; the bar that decides the first is wholly on one side.
        ([ABOVE, TOUCH, ABOVE, TOUCH, ABOVE], [(1, 2, 1, "held"), (3, 4, 1, "held")]),
        # Not again before a bar wholly on one side.
        ([ABOVE, TOUCH, (103, 101, 102.5), TOUCH], [(1, 2, 1, "held")]),
    ],
)
def test_by_hand(rows, expected):
    assert told(band_tests(bars(*rows), band())) == expected


def test_only_the_bars_of_a_band_begin_a_test_and_the_one_before_may_stand_aside():
    rows = [ABOVE, TOUCH, ABOVE, TOUCH, (103, 101.5, 101.9), ABOVE]
    assert told(band_tests(bars(*rows), band(first=3, last=4))) == [(3, 5, 1, "held")]
    assert told(band_tests(bars(*rows), band(first=2, last=3))) == []
    assert told(band_tests(bars(*rows), band(first=1, last=2))) == [(1, 2, 1, "held")]


def test_a_bar_that_is_missing_is_passed_over():
    nothing = (np.nan, np.nan, np.nan)
    assert told(band_tests(bars(ABOVE, nothing, TOUCH, nothing, ABOVE), band())) == [(2, 4, 1, "held")]


def plain(rows, low, high, away):
    side, test, out = 0, None, []
    for i, (top, bottom, close) in enumerate(rows):
        inside = bottom <= high and top >= low
        if test is None and inside and side:
            test = [i, side, 0]
        if test is not None:
            begin, came, beyond = test
            beyond = beyond + 1 if (close < low if came > 0 else close > high) else 0
            test[2] = beyond
            back = close >= high + away if came > 0 else close <= low - away
            if beyond == 2 or back:
                out.append((begin, i, came, "broke" if beyond == 2 else "held"))
                test, side = None, 0
        if test is None and not inside:
            side = 1 if bottom > high else -1
    return out + ([(test[0], len(rows) - 1, test[1], "open")] if test else [])


bar = st.tuples(st.integers(0, 12), st.integers(0, 4), st.integers(0, 4)).map(
    lambda row: (row[0] + row[1], row[0], row[0] + min(row[2], row[1]))
)


@given(st.lists(bar, min_size=1, max_size=30), st.integers(3, 9), st.integers(0, 2), st.integers(1, 3))
def test_bands_are_tested_as_in_a_plain_loop(rows, low, wide, away):
    found = band_tests(bars(*rows), band(float(low), float(low + wide), float(away)))
    assert told(found) == plain(rows, low, low + wide, away)


@given(st.lists(bar, min_size=2, max_size=30), st.integers(3, 9), st.integers(1, 28))
def test_a_later_bar_changes_no_test_that_is_decided(rows, low, cut):
    one = told(band_tests(bars(*rows), band(float(low), low + 1.0)))
    two = told(band_tests(bars(*rows[:cut], *[(20, 18, 19)] * max(0, len(rows) - cut)), band(float(low), low + 1.0)))
    decided = [test for test in one if test[3] != "open" and test[1] < cut]
    assert decided == [test for test in two if test[3] != "open" and test[1] < cut]
