"""Whether targets were touched, against a plain loop."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from flinch.core.evidence import cycle_target, move_target, touched_by
from flinch.core.moves import CycleBands


@settings(max_examples=40)
@given(st.integers(0, 1000))
def test_touches_agree_with_a_plain_loop(seed):
    rng = np.random.default_rng(seed)
    close = 100 * np.exp(np.cumsum(0.02 * rng.normal(size=(3, 30)), axis=1))
    high, low = close * (1 + 0.01 * rng.random(close.shape)), close * (1 - 0.01 * rng.random(close.shape))
    close[0, 5] = high[0, 5] = low[0, 5] = np.nan
    end = np.repeat([4.0, 11.0, 17.0, 24.0, 33.0], 6)
    target = close * np.where(rng.random(close.shape) < 0.5, 1.03, 0.97)
    touched, still_open = touched_by(high, low, close, target, end)
    for i in range(3):
        for t in range(30):
            ahead = [s for s in range(t + 1, int(min(end[t], 29)) + 1) if np.isfinite(close[i, s])]
            there = np.isfinite(target[i, t]) and end[t] > t
            expected = math.nan
            if ahead and there and end[t] < 30:
                expected = float(
                    any(
                        high[i, s] >= target[i, t] if target[i, t] >= close[i, t] else low[i, s] <= target[i, t]
                        for s in ahead
                    )
                )
            assert touched[i, t] == pytest.approx(expected, nan_ok=True)
            assert still_open[i, t] == (there and end[t] >= 30)


def test_a_window_that_is_not_over_does_not_count_though_it_was_touched():
    close = np.full((1, 6), 100.0)
    high = np.array([[100.0, 100, 100, 100, 100, 106]])
    end = np.arange(6) + 3.0
    touched, still_open = touched_by(high, close, close, close * 1.05, end)
    assert touched[0] == pytest.approx([0, 0, 1, np.nan, np.nan, np.nan], nan_ok=True)
    assert still_open[0].tolist() == [0, 0, 0, 1, 1, 1]


def test_a_target_at_the_close_is_a_rise_of_nothing_and_the_last_session_counts():
    close, high, low = np.full((1, 3), 100.0), np.array([[100.0, 99.9, 100.0]]), np.full((1, 3), 99.0)
    touched, _ = touched_by(high, low, close, close.copy(), np.array([1.0, 2.0, 2.0]))
    assert touched[0] == pytest.approx([0, 1, np.nan], nan_ok=True)


def test_an_expected_move_up_or_down_by_hand():
    close = np.array([[100.0, 50.0, np.nan]])
    vols = [np.full((1, 3), 0.2), np.full((1, 3), 0.2)]
    up, down = (move_target(close, (14, 90), vols, moves, 10) for moves in (1.5, -1.0))
    size = 0.2 * np.sqrt(10 / 252)
    assert up.price[0] == pytest.approx([100 * (1 + 1.5 * size), 50 * (1 + 1.5 * size), np.nan], nan_ok=True)
    assert down.price[0, 0] == pytest.approx(100 * (1 - size))
    assert up.end.tolist() == [10.0, 11.0, 12.0]
    assert up.span == 10


def test_the_edge_of_the_week_on_the_side_price_is_on_by_hand():
    """Monday to Friday; a band around the Friday before of 4 to both sides."""
    days = np.arange("2026-08-31", "2026-09-19", dtype="datetime64[D]")
    calendar = days[np.is_busday(days)]
    close = np.array([[100.0, 101, 99, 105, 100, 100, 98]])
    band = CycleBands(np.full((1, 7), 100.0), np.full((1, 7), 4.0), np.arange(7.0), np.full(7, 5.0))
    target = cycle_target(close, band, calendar, monthly=False)
    assert target.price[0] == pytest.approx([104, 104, 96, np.nan, 104, 104, 96], nan_ok=True), (
        "none once it was passed"
    )
    assert target.end.tolist() == [4, 4, 4, 4, 4, 9, 9], "a session that ends a week still belongs to it"
    assert target.span == 5
