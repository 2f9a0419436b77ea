"""Flags at their edges, by hand."""

import numpy as np
import pytest

from flinch.core.structures.flags import pinned, thin, wide


@pytest.mark.parametrize(
    ("days", "away", "expected_day", "flagged"),
    [
        (7, 1.0, 2.0, True),
        (8, 1.0, 2.0, False),
        (0, -1.0, 2.0, True),
        (7, 1.001, 2.0, False),
        (3, -1.001, 2.0, False),
        (3, 0.0, float("nan"), False),
    ],
)
def test_a_short_leg_is_pinned_within_half_an_expected_day_in_its_last_week(days, away, expected_day, flagged):
    assert bool(pinned(days, away, expected_day)) is flagged


def test_a_market_is_wide_beyond_a_quarter_of_its_worth_whatever_its_sign():
    width, worth = np.array([25.0, 25.1, 25.0, 25.1]), np.array([100.0, 100.0, -100.0, -100.0])
    assert wide(width, worth).tolist() == [False, True, False, True]


def test_a_leg_is_thin_below_fifty_contracts():
    assert thin(np.array([0, 49, 50, 51])).tolist() == [True, True, False, False]
