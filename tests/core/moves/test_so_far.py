"""How much of a day's variance has gone by: before the open, and evenly after it."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.moves import overnight_share, variance_gone

HALF_RANGE = math.exp(0.01 * math.sqrt(math.log(2)))
"""A range of twice its logarithm has a variance of 0.01 squared (Parkinson 1980)."""


def days(gaps: list[float], moves: list[float]) -> tuple[np.ndarray, ...]:
    """Bars whose opens are so far from the closes before them, in logarithms; each ranges so many times the usual about it."""
    close, bars = 100.0, []
    for gap, times in zip(gaps, moves, strict=True):
        opened = close * math.exp(gap)
        reach = HALF_RANGE**times
        bars.append((opened, opened * reach, opened / reach, opened))
        close = opened
    return tuple(np.array(bars).T)


def test_a_gap_as_wide_as_the_session_makes_one_half():
    assert overnight_share(*days([0.0, 0.01, -0.01, 0.01], [1, 1, 1, 1])) == pytest.approx(0.5)


def test_each_day_counts_by_its_variance_and_the_first_has_no_gap():
    """Gaps of 3 and 1 against ranges of 1 and 2: (9 + 1) of (9 + 1 + 1 + 4)."""
    assert overnight_share(*days([0.5, 0.03, -0.01], [9, 1, 2])) == pytest.approx(10 / 15)


def test_a_session_without_a_bar_takes_the_gap_after_it_along():
    bars = np.array(days([0.0, 0.01, 0.01, 0.01, 0.02], [1, 1, 1, 1, 1]))
    bars[:, 2] = np.nan
    assert overnight_share(*bars) == pytest.approx((1 + 4) / (1 + 4 + 2))


def test_what_never_moved_and_what_never_traded_has_none():
    still = np.full(5, 10.0)
    assert np.isnan(overnight_share(still, still, still, still))
    both = np.vstack([still, np.full(5, np.nan)])
    assert np.isnan(overnight_share(both, both, both, both)).tolist() == [True, True]


@pytest.mark.parametrize(
    ("elapsed", "gone"), [(-3.0, 0.25), (0.0, 0.25), (0.5, 0.625), (1.0, 1.0), (1.2, 1.0), (math.nan, math.nan)]
)
def test_what_comes_before_the_open_is_there_at_once(elapsed: float, gone: float):
    assert variance_gone(0.25, elapsed) == pytest.approx(gone, nan_ok=True)


@given(st.floats(0, 1), st.floats(0, 1), st.floats(0, 1))
def test_it_only_grows(overnight: float, one: float, other: float):
    first, second = (float(variance_gone(overnight, at)) for at in sorted((one, other)))
    assert 0 <= first <= second <= 1
