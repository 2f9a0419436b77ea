"""Jumps that a split would explain, and strikes that are of other shares."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.checks import RATIOS, split_jumps, strikes_apart

FLAT = np.full((1, 6), 100.0)


def test_a_split_and_a_reverse_split_are_found_on_their_day_with_their_ratio():
    close = np.concatenate([FLAT, FLAT])
    close[0, :3] *= 4  # four for one before the fourth session
    close[1, :2] /= 10  # one for ten before the third
    jumps = split_jumps(close * 1.01, close)
    assert jumps.name.tolist() == [0, 1]
    assert jumps.session.tolist() == [3, 2]
    assert jumps.ratio.tolist() == [4.0, 0.1]


def test_a_jump_over_sessions_without_a_bar_is_found_where_the_bars_go_on():
    close = FLAT.copy()
    close[0, :2] *= 2
    close[0, 2:4] = np.nan
    jumps = split_jumps(close, close)
    assert (jumps.session.tolist(), jumps.ratio.tolist()) == ([4], [2.0])


def test_moves_that_no_usual_split_makes_are_none():
    for factor in (1.0, 1.5, 1.8, 2.2, 0.55, 2 / 3, 60.0):
        close = FLAT.copy()
        close[0, :3] *= factor
        assert split_jumps(close, close).name.size == 0, factor
    assert split_jumps(np.full((1, 4), np.nan), np.full((1, 4), np.nan)).name.size == 0


@given(st.sampled_from(RATIOS.tolist()), st.floats(-0.04, 0.04), st.integers(1, 5))
def test_every_usual_ratio_is_found_within_five_percent(ratio: float, move: float, session: int):
    close = FLAT.copy()
    close[0, :session] *= ratio
    open_ = close.copy()
    open_[0, session] *= np.exp(move)
    jumps = split_jumps(open_, close)
    assert jumps.session.tolist()[0] == session
    assert jumps.ratio[0] == pytest.approx(ratio, rel=0.35 if ratio >= 25 or ratio <= 1 / 25 else 1e-12)


def test_strikes_of_ten_shares_are_told_and_wide_chains_are_not():
    spot = np.array([100.0, 100.0, 100.0, 100.0, np.nan, 3.0])
    strike = np.array([1000.0, 9.0, 180.0, 60.0, 100.0, 301.0])
    assert np.array_equal(strikes_apart(spot, strike), [10.0, 0.1, np.nan, np.nan, np.nan, 100.0], equal_nan=True)
