"""Candles, gaps, swings and the squeeze, on bars drawn by hand."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core import technicals as t


def one(values) -> np.ndarray:
    return np.array([values], dtype=float)


def test_averaged_candles_by_hand():
    opened, high, low, close = one([10, 11, 12]), one([12, 13, 12.5]), one([9, 10.5, 11]), one([11, 12, 11.5])
    candle = t.heikin_ashi(opened, high, low, close)
    assert candle.close[0] == pytest.approx([10.5, 11.625, 11.75])
    assert candle.open[0] == pytest.approx([10.5, 10.5, 11.0625])
    assert candle.low[0] == pytest.approx([9, 10.5, 11])
    assert candle.high[0] == pytest.approx([12, 13, 12.5])


def test_a_steady_rise_runs_flat_at_the_bottom_until_a_shadow_ends_it():
    close = np.arange(10.0, 20.0)
    low = close - 0.2
    low[7] = 12.0
    bars = one(close - 0.1), one(close + 0.3), one(low), one(close)
    run = t.flat_bottom_run(*bars)[0]
    assert run[7] == 0
    assert run[6] == run[5] + 1 == run[4] + 2
    assert run[9] == 2
    assert (t.flat_top_run(*bars)[0] == 0).all()


def test_a_missing_session_is_no_candle_and_begins_anew():
    close = np.arange(10.0, 20.0)
    close[4] = np.nan
    run = t.flat_bottom_run(one(close - 0.1), one(close + 0.3), one(close - 0.2), one(close))[0]
    assert np.isnan(run[4])
    assert run[5] <= 1


def test_a_gap_stays_open_until_price_comes_back_to_it():
    #             gap up over 11 ↓           filled ↓   gap down under 9.5 ↓
    high = one([11, 13, 14, 13.5, 12.9, 12, 11.5, 10.5, 9.0])
    low = one([10, 12, 13, 12.5, 11.8, 11.1, 10.9, 9.5, 8.0])
    below = t.unfilled_gap(high, low, above=False)[0]
    assert np.isnan(below[0])
    assert below[1:6] == pytest.approx([11] * 5)
    assert np.isnan(below[6:]).all()
    above = t.unfilled_gap(high, low, above=True)[0]
    assert np.isnan(above[:7]).all()
    assert above[7:] == pytest.approx([10.9, 9.5])


def test_all_open_gaps_and_how_far_price_came_back_to_them():
    #        gap up over 11 ↓   and over 14 ↓ which is filled      gap down under 12.9 ↓
    high = np.array([11, 13, 14, 16.5, 15.2, 14.7, np.nan, 13.8, 12.5, 12.7])
    low = np.array([10, 12, 13, 15.0, 14.6, 13.9, np.nan, 12.9, 12.1, 12.4])
    gaps = t.open_gaps(high, low)
    assert gaps.session.tolist() == [1, 8]
    assert gaps.fill.tolist() == [11, 12.9]
    assert gaps.reached.tolist() == [12, 12.7], "of the first all is open, of the second what lies above 12.7"
    assert gaps.above.tolist() == [False, True]
    assert t.open_gaps(high, low, window=9).session.tolist() == [1, 8]
    assert t.open_gaps(high, low, window=8).session.tolist() == [8]


walks = st.lists(st.one_of(st.none(), st.tuples(st.integers(80, 120), st.integers(0, 6))), min_size=1, max_size=40)


@given(walks, st.integers(1, 45))
def test_the_newest_open_gap_is_the_one_that_rules_know(walk, window):
    low = np.array([np.nan if bar is None else bar[0] for bar in walk])
    high = np.array([np.nan if bar is None else bar[0] + bar[1] for bar in walk])
    gaps = t.open_gaps(high, low, window=window)
    for above in (False, True):
        rule = t.unfilled_gap(high[None], low[None], above=above, window=window)[0, -1]
        mine = gaps.fill[gaps.above == above]
        assert mine[-1] == rule if mine.size else np.isnan(rule)


@given(walks, st.integers(1, 3))
def test_the_last_turning_point_is_the_swing_that_rules_know(walk, side):
    low = np.array([np.nan if bar is None else bar[0] for bar in walk])
    for values, high in ((low, False), (-low, True)):
        points = t.turning_points(values, side, high=high)
        told = t.swing(values[None], side, high=high)[0]
        assert values[points[-1]] == told[-1] if points.size else np.isnan(told[-1])
        assert (points + side < values.size).all(), "what is not confirmed is no swing"
        seen = {value for value in told if np.isfinite(value)}
        assert seen == {values[point] for point in points}


def test_a_swing_is_known_only_after_its_sessions_have_passed():
    high = one([1, 2, 5, 3, 2, 4, 3, 6, 2, 1])
    found = t.swing(high, 2, high=True)[0]
    assert np.isnan(found[:4]).all(), "the high of session 2 is confirmed in session 4"
    assert list(found[4:]) == [5, 5, 5, 5, 5, 6]


@given(st.lists(st.floats(1, 100), min_size=6, max_size=40), st.integers(1, 4))
def test_what_was_known_is_not_changed_by_what_comes_later(values, side):
    whole = one(values)
    for at in range(1, len(values) + 1):
        for high in (True, False):
            known, then = t.swing(whole, side, high=high)[0, at - 1], t.swing(whole[:, :at], side, high=high)[0, -1]
            assert known == then or (np.isnan(known) and np.isnan(then))


def test_a_leg_is_extended_from_where_it_began():
    path = np.array([10, 9, 8, 9, 11, 13, 12, 11, 12, 12.5, 12.6])
    target = t.fib_extension(one(path), one(path), 2, 1.618)[0]
    assert target[7] == pytest.approx(8 + 1.618 * 5), "the high of 13 is confirmed, the low of 11 not yet"
    assert target[9] == pytest.approx(13 - 1.618 * 2)


def test_the_squeeze_is_on_where_closes_are_still_and_ranges_are_not():
    rng = np.random.default_rng(1)
    still = 50 + 0.05 * rng.normal(size=60)
    close = np.concatenate([50 * np.exp(np.cumsum(rng.normal(0, 0.03, 60))), still, [60, 66, 72]])
    on, known = t.squeeze_on(one(close + 0.8), one(close - 0.8), one(close))
    assert not known[0, :18].any()
    assert on[0, 90:119].all()
    assert not on[0, -1]
