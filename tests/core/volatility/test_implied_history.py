"""Constant maturity, rank and percentile."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from flinch.core.volatility import constant_maturity, constant_maturity_vol, observed_sessions, vol_percentile, vol_rank


def test_total_variance_is_linear_between_two_expirations():
    # 20 days at 30 % and 40 days at 40 %: at 30 days half way between 0.09 * 20 and 0.16 * 40.
    vol = constant_maturity_vol(np.array([20, 40]) / 365, np.array([0.30, 0.40]), 30 / 365)
    assert vol == pytest.approx(np.sqrt((0.09 * 20 + 0.16 * 40) / 2 / 30))


def test_beyond_the_ends_it_is_flat_and_says_so():
    found = constant_maturity(np.array([20, 40]) / 365, [0.3, 0.4], np.array([7, 20, 30, 40, 90]) / 365)
    assert found.vol[[0, 1, 3, 4]] == pytest.approx([0.3, 0.3, 0.4, 0.4])
    assert found.extrapolated.tolist() == [True, False, False, False, True]


@given(
    arrays(float, 6, elements=st.floats(1 / 365, 3), unique=True),
    arrays(float, 6, elements=st.floats(0.05, 2)),
    st.floats(2 / 365, 2.5),
)
def test_lies_between_its_neighbours_in_total_variance_whatever_the_order(years, vols, target):
    order = np.argsort(years)
    vol = constant_maturity_vol(years, vols, target)
    assert vol == pytest.approx(constant_maturity_vol(years[order], vols[order], target))
    t, w = years[order], (vols[order] ** 2) * years[order]
    if t[0] < target < t[-1]:
        assert vol**2 * target == pytest.approx(np.interp(target, t, w))


def test_names_with_fewer_expirations_and_none():
    years = np.array([[0.05, 0.1, np.nan], [np.nan, np.nan, np.nan], [0.05, 0.1, 0.2]])
    vols = np.array([[0.2, 0.3, np.nan], [np.nan, np.nan, np.nan], [0.2, np.nan, 0.4]])
    found = constant_maturity(years, vols, [0.1])
    assert found.vol[0, 0] == pytest.approx(0.3)
    assert np.isnan(found.vol[1, 0])
    assert not found.extrapolated[1, 0]
    assert found.vol[2, 0] == pytest.approx(np.sqrt(np.interp(0.1, [0.05, 0.2], [0.04 * 0.05, 0.16 * 0.2]) / 0.1))


histories = arrays(float, st.integers(60, 300), elements=st.floats(0.05, 2) | st.just(np.nan))


@given(histories)
def test_rank_and_percentile_as_a_person_would_count_them(history):
    year = list(history[-252:])
    seen = [v for v in year if v == v]
    before = [v for v in year[:-1] if v == v]
    last = year[-1]
    rank, percentile = float(vol_rank(history)), float(vol_percentile(history))
    assert observed_sessions(history) == len(seen)
    if last != last or len(seen) < 60:
        assert np.isnan(rank)
        assert np.isnan(percentile)
        return
    assert percentile == pytest.approx(100 * sum(v < last for v in before) / len(before))
    if max(seen) > min(seen):
        assert rank == pytest.approx(100 * (last - min(seen)) / (max(seen) - min(seen)))


def test_one_spike_holds_the_rank_down_and_not_the_percentile():
    history = np.full(252, 0.20)
    history[30] = 1.50
    history[-1] = 0.30
    assert vol_rank(history) == pytest.approx(100 * 0.10 / 1.30)
    assert vol_percentile(history) == pytest.approx(100 * 250 / 251)


def test_sixty_observations_are_needed():
    history = np.linspace(0.2, 0.3, 59)
    assert np.isnan(vol_rank(history))
    assert vol_rank(np.append(history, 0.31)) == pytest.approx(100)
    assert vol_percentile(np.append(history, 0.31)) == pytest.approx(100)
