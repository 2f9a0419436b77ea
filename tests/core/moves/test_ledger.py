"""The score of past expected moves: by hand, against a loop, and as chance would have it."""

import hypothesis.extra.numpy as hnp
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.moves import MEAN_SIZE, PROMISED, cycle_outcomes, ledger_verdict, report_moves, sellers_won

NAN = float("nan")


def test_two_cycles_by_hand():
    close = np.array([100.0, 103.0, 108.0, 104.0, 101.0])
    high, low = close + 1, close - 3
    anchor = np.array([NAN, 100.0, 100.0, 108.0, 108.0])
    half = np.array([NAN, 5.0, 5.0, 10.0, 10.0])
    found = cycle_outcomes(high, low, close, anchor, half, np.array([0, 2]), np.array([2, 4]))
    assert found.priced == pytest.approx([0.05, 10 / 108])
    assert found.moved == pytest.approx([0.08, -7 / 108])
    assert found.position == pytest.approx([1.6, -0.7])
    assert found.worst == pytest.approx([9 / 5, -1.0]), "108 + 1 above 100; 101 - 3 below 108"
    assert found.inside.tolist() == [False, True]


def test_what_is_missing_counts_neither_as_inside_nor_as_outside():
    close = np.array([[100.0, 101.0, NAN], [100.0, 101.0, 102.0]])
    anchor = np.array([[100.0] * 3, [100.0, NAN, 101.0]])
    found = cycle_outcomes(close, close, close, anchor, np.full((2, 3), 4.0), np.array([0, 1]), np.array([1, 2]))
    assert found.known.tolist() == [[True, False], [False, True]]
    assert found.inside.tolist() == found.known.tolist()
    assert np.isnan(found.worst[0, 1])
    assert np.isnan(found.priced[1, 0])


def test_no_cycle_is_no_outcome_and_a_gap_between_cycles_is_refused():
    bar, none = np.full(6, 100.0), np.empty(0, dtype=np.int64)
    assert cycle_outcomes(bar, bar, bar, bar, bar, none, none).known.size == 0
    with pytest.raises(ValueError, match="where the one before it ended"):
        cycle_outcomes(bar, bar, bar, bar, bar, np.array([0, 3]), np.array([2, 5]))


@given(
    hnp.arrays(np.float64, (4, 24), elements=st.one_of(st.floats(50, 150), st.just(NAN))),
    st.lists(st.integers(1, 23), min_size=2, max_size=8, unique=True).map(sorted),
)
def test_the_furthest_excursion_is_the_one_a_loop_finds(bars, places):
    high, low, close = bars[:3].max(axis=0), bars[:3].min(axis=0), bars[3]
    anchor, half = np.full(24, 100.0), np.full(24, 8.0)
    starts, ends = np.array(places[:-1]), np.array(places[1:])
    found = cycle_outcomes(high, low, close, anchor, half, starts, ends)
    for place, (start, end) in enumerate(zip(starts, ends, strict=True)):
        if np.isnan(close[end]):
            assert np.isnan(found.worst[place])
            continue
        seen = [price - 100 for bar in (high, low) for price in bar[start + 1 : end + 1] if np.isfinite(price)]
        if seen:
            assert abs(found.worst[place]) == pytest.approx(max(abs(move) for move in seen) / 8)
            assert any(found.worst[place] == pytest.approx(move / 8) for move in seen)


def test_a_fair_price_is_called_unfair_in_about_one_ledger_of_twenty():
    n, cycles = 4_000, 52
    inside = np.random.default_rng(4).binomial(cycles, PROMISED, n)
    said = [ledger_verdict(int(k), cycles) for k in inside]
    assert 0.02 < sum(v != "within chance" for v in said) / n < 0.08
    assert ledger_verdict(cycles, cycles) == "overpriced"
    assert ledger_verdict(cycles // 2, cycles) == "underpriced"
    assert ledger_verdict(0, 0) is None


def test_sellers_of_a_fair_move_win_as_often_as_a_normal_is_below_its_mean_size():
    moves = np.random.default_rng(5).normal(size=200_000)
    assert np.abs(moves).mean() == pytest.approx(MEAN_SIZE, abs=0.005)
    assert sellers_won(moves, 1.0).mean() == pytest.approx(0.575, abs=0.005), "P(|z| < 0.798)"
    assert not sellers_won([NAN, 1.0], [1.0, NAN]).any()


def test_of_two_excursions_of_one_size_the_upper_counts():
    high, low, close = np.array([100.0, 108.0, 102.0]), np.array([100.0, 99.0, 92.0]), np.array([100.0, 101.0, 101.0])
    found = cycle_outcomes(high, low, close, np.full(3, 100.0), np.full(3, 4.0), np.array([0]), np.array([2]))
    assert found.worst[0] == 2.0


def test_what_reports_were_priced_at_and_what_came_by_hand():
    close = np.array([100.0, 100.0, 110.0, 99.0, NAN, 99.0, 100.0])
    priced = np.array([0.05, 0.08, 0.05, 0.0, 0.04, NAN, 0.03])
    found = report_moves(close, priced, np.array([2, 3, 4, 6]))
    assert found.priced[:2] == pytest.approx([0.08, 0.05]), "what was priced the evening before"
    assert found.moved[:2] == pytest.approx([0.10, -0.10])
    assert found.ratio[:2] == pytest.approx([1.25, 2.0])
    assert found.sellers.tolist() == [False, False, False, False]
    assert np.isnan(found.ratio[2:]).all(), "a missing close, nothing priced"
    small = report_moves(np.array([100.0, 103.9]), np.array([0.05, 0.05]), np.array([1]))
    assert small.sellers.tolist() == [True], "less than 0.8 of what was priced"
    assert report_moves(close, priced, np.empty(0, dtype=np.int64)).moved.size == 0
