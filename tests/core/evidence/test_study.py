"""Evidence: by hand on a few cases, against plain loops, and silent where there is nothing to find."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.evidence import moves_ahead, moves_from_open, ranges_ahead, sentence, study, verdict
from flinch.core.evidence.study import _differs, draw_blocks, independent_days


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


def test_a_bet_on_a_fall_is_judged_by_falls_and_so_are_its_base_rates():
    outcome = np.array([[1.0, -2.0], [0.5, 3.0], [-1.0, 1.0]])
    fired = np.array([[True, True], [False, True], [False, False]])
    side = np.array([[-1.0, 1.0], [1.0, -1.0], [1.0, 1.0]])
    found = study(outcome, np.ones((3, 2), dtype=bool), fired, horizon=1, looks=1, side=side)
    mean, won = found.measures["mean"], found.measures["up"]
    assert mean.fired.value == pytest.approx((-1 - 2 - 3) / 3)
    # The same bets on every name of the day: one fall on the first, a rise and a fall on the second.
    assert mean.same_days.value == pytest.approx((-0.5 / 3 + 2.0 / 3 - 2.0 / 3) / 3)
    assert won.fired.value == 0
    assert won.same_days.value == pytest.approx((1 / 3 + 2 / 3 + 1 / 3) / 3)
    # The second name bet on a fall, and rose by half a move on its other day.
    assert mean.other_days.value == pytest.approx(-0.5)
    assert found.measures["size"].fired.value == pytest.approx(2), "size has no side"


def test_a_price_that_stood_still_is_won_by_neither_side():
    # On the day of the case one other name fell and one stood still; on the name's own other days it stood still, fell and rose.
    outcome = np.array([[-1.0, 0.0, -2.0, 1.0], [0.0, 1.0, 1.0, 1.0], [-1.0, 1.0, 1.0, 1.0]])
    fired = np.zeros(outcome.shape, dtype=bool)
    fired[0, 0] = True
    found = study(outcome, np.ones(outcome.shape, dtype=bool), fired, horizon=1, looks=1, side=-np.ones((1, 1)))
    won = found.measures["up"]
    assert (won.fired.value, won.same_days.value) == (1, pytest.approx(2 / 3))
    assert won.other_days.value == pytest.approx(1 / 3)


def test_a_case_without_a_side_is_left_out():
    outcome, fired = np.ones((1, 3)), np.ones((1, 3), dtype=bool)
    found = study(outcome, fired, fired, horizon=1, looks=1, side=np.array([[1.0, 0.0, np.nan]]))
    assert found.cases == 1


def test_from_the_next_open_the_gap_is_not_earned():
    open_, close = np.array([[10.0, 12.0, 11.0]]), np.array([[10.0, 12.6, 11.0]])
    found = moves_from_open(open_, close, np.full((1, 3), 0.05), 1)
    assert found[0] == pytest.approx([1.0, 0.0, np.nan], nan_ok=True)
    two = moves_from_open(open_, close, np.full((1, 3), 0.05), 2)
    assert two[0] == pytest.approx([(11 / 12 - 1) / 0.05, np.nan, np.nan], nan_ok=True)


def market_without_habits_to_find(seed, names=50, sessions=504):
    """Fat tails, a common factor, sectors, and names whose options misjudge them a little, for good."""
    rng = np.random.default_rng(seed)
    vol, misjudged = rng.uniform(0.01, 0.03, names), np.exp(rng.normal(0, 0.12, names))
    drift, sector = rng.normal(0, 3e-4, names), rng.integers(0, 8, names)
    common = 0.008 * rng.standard_t(5, sessions) / math.sqrt(5 / 3) * rng.uniform(0.5, 1.5, names)[:, None]
    own = vol[:, None] * rng.standard_t(4, (names, sessions)) / math.sqrt(2)
    returns = common + 0.006 * rng.normal(size=(8, sessions))[sector] + own + drift[:, None]
    priced = np.sqrt(vol**2 + 0.008**2 + 0.006**2) * misjudged
    return 100 * np.exp(np.cumsum(returns, axis=1)), np.repeat(priced[:, None], sessions, axis=1)


def claims(close, priced, fired, side=None):
    """Whether anything is claimed of a condition."""
    everybody = np.ones(close.shape, dtype=bool)
    high, low = close * (1 + 0.5 * priced), close * (1 - 0.5 * priced)
    for horizon in (1, 5, 10, 21):
        expected = priced * math.sqrt(horizon)
        ranges = ranges_ahead(high, low, close, expected, horizon)
        moved = moves_ahead(close, expected, horizon)
        found = study(moved, everybody, fired, horizon=horizon, looks=12, ranges=ranges, side=side)
        if any(verdict(found, measure) in ("above", "below") for measure in ("mean", "size", "range")):
            return True
    return False


def some_names(rng, shape):
    fired = np.zeros(shape, dtype=bool)
    fired[rng.choice(shape[0], rng.integers(3, 20), replace=False)] = True
    return fired


def some_days(rng, shape):
    return rng.random(shape) < 0.03


@pytest.mark.parametrize("drawn", [some_names, some_days])
def test_of_two_hundred_meaningless_conditions_few_are_claimed(drawn):
    told = 0
    for seed in range(200):
        close, priced = market_without_habits_to_find(seed)
        told += claims(close, priced, drawn(np.random.default_rng(9_000 + seed), close.shape))
    assert told <= 16, "at most eight in a hundred"


@pytest.mark.parametrize("signed", [False, True])
def test_what_is_planted_is_found(signed):
    told = 0
    for seed in range(20):
        close, priced = market_without_habits_to_find(seed)
        rng = np.random.default_rng(seed)
        fired = some_days(rng, close.shape)
        side = rng.choice([-1.0, 1.0], close.shape) if signed else None
        lift = np.zeros(close.shape)
        lift[:, 1:] = (0.3 * priced * fired * (1.0 if side is None else side))[:, :-1]
        told += claims(close * np.exp(np.cumsum(lift, axis=1)), priced, fired, side)
        if signed:
            # Both ways at once: without the side there is nothing to see.
            assert not verdict_of_direction(close * np.exp(np.cumsum(lift, axis=1)), priced, fired)
    assert told >= 19


def verdict_of_direction(close, priced, fired):
    found = study(moves_ahead(close, priced, 1), np.ones(close.shape, dtype=bool), fired, horizon=1, looks=12)
    return verdict(found, "mean") in ("above", "below")


def test_a_few_names_are_less_certain_than_many_with_as_many_cases():
    """Every name has a habit of its own; the mean of four of them says less about the next four than that of forty."""
    rng = np.random.default_rng(7)
    habit = rng.normal(0, 0.5, (60, 1))
    outcome = habit + rng.normal(size=(60, 500))
    few, many = np.zeros((60, 500), dtype=bool), rng.random((60, 500)) < 4 / 60
    few[:4] = True
    wide, narrow = (
        study(outcome, np.ones((60, 500), dtype=bool), fired, horizon=1, looks=1).measures["mean"].against_days
        for fired in (few, many)
    )
    assert wide.high - wide.low > 2 * (narrow.high - narrow.low)
    # Three degrees of freedom, four names: 2 x 3.18 x 0.5 / 2.
    assert wide.high - wide.low == pytest.approx(2 * 3.18 * np.std(habit[:4], ddof=0) / 2, rel=0.3)


def test_more_looks_want_a_clearer_difference_and_blocks_are_twice_the_horizon():
    rng = np.random.default_rng(11)
    outcome = rng.normal(size=(40, 400))
    fired = rng.random((40, 400)) < 0.1
    outcome[fired] += 0.1
    one, many = (study(outcome, np.ones(fired.shape, dtype=bool), fired, horizon=1, looks=n) for n in (1, 1000))
    assert one.measures["mean"].sure
    assert not many.measures["mean"].sure
    # A run of ten equal days is one draw for a horizon of ten: the interval is wider than day by day.
    runs = np.repeat(rng.normal(size=(1, 40)), 10, axis=1) + np.zeros((40, 1))
    short, long = (
        study(runs, np.ones(runs.shape, dtype=bool), np.ones(runs.shape, dtype=bool), horizon=h, looks=1)
        for h in (1, 10)
    )
    width = [s.measures["mean"].fired.high - s.measures["mean"].fired.low for s in (short, long)]
    assert width[1] > 1.2 * width[0]


def test_an_outcome_without_bound_is_no_outcome():
    close = np.array([[0.0, 1.0, 2.0]])
    assert np.isnan(moves_ahead(close, np.full((1, 3), 0.1), 1)[0, 0])
    assert np.isnan(moves_from_open(close, close, np.full((1, 3), 0.0), 1)[0, :1]).all()
    assert np.isnan(ranges_ahead(close, close, close, np.full((1, 3), 0.1), 1)[0, 0])


def test_beyond_is_more_than_the_expected_move_and_not_as_much():
    outcome = np.array([[1.0, -1.0, 1.0000001, -1.5]])
    fired = np.ones((1, 4), dtype=bool)
    assert study(outcome, fired, fired, horizon=1, looks=1).measures["beyond"].fired.value == pytest.approx(0.5)


def test_a_difference_is_sure_beyond_what_chance_does_to_one_look_in_twenty_of_all():
    drawn = np.random.default_rng(1).normal(size=200_001)
    drawn = (drawn - drawn.mean()) / drawn.std()
    # Both sides share the five percent, and all looks do.
    for looks, reach in ((1, 1.960), (8, 2.734)):
        for value, sure in ((reach - 0.01, False), (reach + 0.01, True), (-reach - 0.01, True), (-reach + 0.01, False)):
            assert _differs(value, drawn, 1.0, 1e9, looks) is sure
    assert not _differs(2.0, drawn, 1.1, 1e9, 1), "wider by what names add"
    assert not _differs(2.0, drawn, 1.0, 5.0, 1), "of few blocks or names Student's t is further out"


def test_exactly_as_far_as_expected_is_not_beyond():
    outcome = np.array([[1.0, -1.0, 1.0 + 1e-9, 0.0]])
    everybody = np.ones((1, 4), bool)
    found = study(outcome, everybody, everybody, horizon=1, looks=1)
    assert found.measures["beyond"].fired.value == pytest.approx(0.25)
    assert found.measures["beyond"].same_days.value == pytest.approx(0.25)
