"""Evidence: by hand on a few cases, against plain loops, and silent where there is nothing to find."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from flinch.core.evidence import moves_ahead, ranges_ahead, reach_of, sentence, study, verdict
from flinch.core.evidence.study import draw_blocks, independent_days


def walks(names=60, sessions=500, seed=0):
    rng = np.random.default_rng(seed)
    market = 0.008 * rng.normal(size=sessions)
    own = 0.015 * rng.normal(size=(names, sessions))
    return 100 * np.exp(np.cumsum(market + own, axis=1))


EVERYBODY = np.ones((60, 500), dtype=bool)


def test_moves_are_in_units_of_what_was_expected():
    close = np.array([[100.0, 110.0, 99.0, np.nan, 100.0]])
    found = moves_ahead(close, np.array([[0.05, 0.05, 0.1, 0.1, 0.1]]), 1)
    assert found[0] == pytest.approx([2.0, -2.0, np.nan, np.nan, np.nan], nan_ok=True)


def test_figures_and_base_rates_by_hand():
    outcome = np.array([[1.0, 2.0, np.nan, -1.0], [0.5, -3.0, 4.0, 1.0], [0.0, 1.0, 2.0, 3.0]])
    fired = np.array([[True, False, True, True], [False, True, False, False], [False, False, False, False]])
    eligible = np.ones(outcome.shape, dtype=bool)
    eligible[2, 3] = False
    found = study(outcome, eligible, fired, horizon=1, looks=1)
    assert (found.cases, found.days, found.independent) == (3, 3, 3)
    mean = found.measures["mean"]
    assert mean.fired.value == pytest.approx((1 - 1 - 3) / 3)
    # Each day's mean of all names that could have fired, once for each case.
    assert mean.same_days.value == pytest.approx((1.5 / 3 + 0.0 / 2 + 0.0 / 3) / 3)
    # The first name fired twice and has one other day, the second fired once and has three.
    assert mean.other_days.value == pytest.approx((2 * 2.0 + 1 * (0.5 + 4 + 1) / 3) / 3)
    assert mean.against_days.value == pytest.approx(mean.fired.value - mean.same_days.value)
    assert found.measures["up"].fired.value == pytest.approx(1 / 3)
    assert found.measures["size"].fired.value == pytest.approx(5 / 3)
    assert found.measures["beyond"].fired.value == pytest.approx(1 / 3)


def test_a_random_condition_is_no_better_than_the_base_rate():
    told = 0
    for seed in range(12):
        close = walks(seed=seed)
        fired = np.random.default_rng(seed).random(close.shape) < 0.03
        found = [
            study(
                moves_ahead(close, np.full(close.shape, 0.017 * math.sqrt(h)), h), EVERYBODY, fired, horizon=h, looks=8
            )
            for h in (1, 5)
        ]
        told += any(verdict(s, measure) in ("above", "below") for s in found for measure in ("mean", "size"))
    assert told <= 2


def test_a_condition_that_knows_the_future_is_found_out():
    close = walks()
    moved = moves_ahead(close, np.full(close.shape, 0.017), 1)
    fired = (moved > 0.5) & (np.random.default_rng(1).random(close.shape) < 0.1)
    found = study(moved, EVERYBODY, fired, horizon=1, looks=8)
    assert verdict(found, "mean") == "above"
    assert found.measures["mean"].against_days.low > 0.5
    assert "further up" in sentence([found], found.days, found.cases, 500)


def test_ranges_are_from_the_lowest_to_the_highest_on_the_way():
    high = np.array([[10.0, 12, 11, 15, 13]])
    low = np.array([[9.0, 8, 10, 11, 12]])
    close = np.array([[10.0, 10, 10, 12, 13]])
    found = ranges_ahead(high, low, close, np.full((1, 5), 0.1), 2)
    assert found[0, :3].tolist() == [12 - 8, 15 - 10, 15 - 11]
    assert np.isnan(found[0, 3:]).all(), "their two sessions are not over"
    assert np.isnan(ranges_ahead(high, low, close, np.full((1, 5), 0.1), 9)).all()
    gap = ranges_ahead(np.where(high == 11, np.nan, high), low, close, np.full((1, 5), 0.1), 2)
    assert np.isnan(gap[0, :2]).all()


def test_a_condition_that_knows_quiet_from_loud_days_is_told_by_the_range():
    close = walks()
    moved = moves_ahead(close, np.full(close.shape, 0.017), 5)
    loud = np.random.default_rng(4).random(close.shape) < 0.5
    ranges = np.where(loud, 2.0, 1.2)
    found = study(moved, EVERYBODY, ~loud, horizon=5, looks=12, ranges=ranges)
    assert verdict(found, "range") == "below"
    assert found.measures["range"].fired.value == pytest.approx(1.2)
    assert "ranged less wide" in sentence([found], found.days, found.cases, 500)


def test_names_that_fire_together_on_one_day_are_one_case():
    close = walks()
    moved = moves_ahead(close, np.full(close.shape, 0.017), 1)
    fired = np.zeros(close.shape, dtype=bool)
    fired[:, 100:110] = moved[:, 100:110] > 0.3
    found = study(moved, EVERYBODY, fired, horizon=1, looks=1)
    assert found.cases > 100
    assert found.independent == 10
    assert verdict(found, "mean") == "too few"
    assert "Too few to say" in sentence([found], found.days, found.cases, 500)


def test_a_condition_that_never_fired_says_so():
    nothing = np.zeros((60, 500), dtype=bool)
    found = study(walks() * 0, EVERYBODY, nothing, horizon=1, looks=1)
    assert found.cases == 0
    assert math.isnan(found.measures["mean"].fired.value)
    assert "never fired" in sentence([found], 0, 0, 500)


def test_the_interval_widens_when_days_cluster():
    """Outcomes of one day that share everything are worth one: the interval is that of the days, not of the cases."""
    rng = np.random.default_rng(2)
    shared = np.repeat(rng.normal(size=(1, 400)), 50, axis=0)
    alone = rng.normal(size=(50, 400))
    fired = rng.random((50, 400)) < 0.2
    wide, narrow = (
        study(y, np.ones(y.shape, dtype=bool), fired, horizon=1, looks=1).measures["mean"].fired
        for y in (shared, alone)
    )
    assert (wide.high - wide.low) > 3 * (narrow.high - narrow.low)
    assert wide.high - wide.low == pytest.approx(2 * 1.96 / math.sqrt(400), rel=0.35)


@given(st.integers(1, 300), st.integers(1, 30))
def test_blocks_draw_as_many_sessions_as_there_are(sessions, block):
    drawn = draw_blocks(sessions, block)
    assert (drawn.sum(axis=1) == sessions).all()
    assert drawn.mean(axis=0) == pytest.approx(np.ones(sessions), abs=0.6)


@given(st.lists(st.booleans(), min_size=1, max_size=60), st.integers(1, 8))
def test_independent_days_do_not_overlap(days, horizon):
    fired = np.array(days)
    kept = []
    for day in np.flatnonzero(fired):
        if not kept or day - kept[-1] >= horizon:
            kept.append(day)
    assert independent_days(fired, horizon) == len(kept)


@settings(max_examples=40)
@given(st.integers(0, 1000))
def test_touches_agree_with_a_plain_loop(seed):
    rng = np.random.default_rng(seed)
    close = 100 * np.exp(np.cumsum(0.02 * rng.normal(size=(3, 30)), axis=1))
    high, low = close * (1 + 0.01 * rng.random(close.shape)), close * (1 - 0.01 * rng.random(close.shape))
    close[0, 5] = high[0, 5] = low[0, 5] = np.nan
    end = np.repeat([4.0, 11.0, 17.0, 24.0, 33.0], 6)
    target = close * np.where(rng.random(close.shape) < 0.5, 1.03, 0.97)
    found = reach_of(high, low, close, target, end, np.full(close.shape, 0.02))
    for i in range(3):
        for t in range(30):
            last = int(min(end[t], 29))
            ahead = [s for s in range(t + 1, last + 1) if np.isfinite(close[i, s])]
            expected = math.nan
            if ahead and np.isfinite(target[i, t]):
                hit = any(
                    high[i, s] >= target[i, t] if target[i, t] >= close[i, t] else low[i, s] <= target[i, t]
                    for s in ahead
                )
                expected = 1.0 if hit else 0.0 if end[t] < 30 else math.nan
            assert found.touched[i, t] == pytest.approx(expected, nan_ok=True)


def test_a_driftless_walk_touches_about_as_often_as_priced():
    rng = np.random.default_rng(4)
    steps = 64
    path = np.exp(np.cumsum(0.02 / math.sqrt(steps) * rng.normal(size=(4000, 22 * steps)), axis=1))
    bars = path.reshape(4000, 22, steps)
    close, high, low = bars[:, :, -1], bars.max(axis=2), bars.min(axis=2)
    found = reach_of(high, low, close, close * 1.05, np.full(22, 21.0), np.full(close.shape, 0.02))
    assert found.touched[:, 0].mean() == pytest.approx(found.priced[:, 0].mean(), abs=0.03)
    assert found.priced[0, 0] == pytest.approx(0.594, abs=0.01)
