"""Fronts, orders by weights, spread-out lists, calibration, and structures held together."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from tests.core.structures.chain import PARAMETERS, T

from flinch.core.structures import (
    BANDS,
    brier,
    chance_below,
    forecast_outcomes,
    front,
    inside_past,
    inside_smile,
    inside_student,
    market_outcomes,
    moving_together,
    past_outcomes,
    percentiles,
    reliability,
    spread_out,
    together,
    weighed,
)

AXES = st.integers(1, 4).flatmap(
    lambda k: arrays(
        np.float64, st.tuples(st.integers(0, 40), st.just(k)), elements=st.integers(0, 6).map(float) | st.just(np.nan)
    )
)


@given(AXES)
def test_the_front_is_what_no_other_beats(axes):
    found = front(axes)
    known = ~np.isnan(axes).any(axis=1)
    for i in range(axes.shape[0]):
        beaten = any(
            known[j] and (axes[j] >= axes[i]).all() and (axes[j] > axes[i]).any()
            for j in range(axes.shape[0])
            if known[i]
        )
        assert found[i] == (known[i] and not beaten)


def test_a_large_front_of_three_axes_is_found_whole():
    rng = np.random.default_rng(6)
    surface = np.abs(rng.standard_normal((6_000, 3)))
    surface /= np.linalg.norm(surface, axis=1, keepdims=True)
    within = surface * rng.uniform(0.2, 0.999, (6_000, 1))
    order = rng.permutation(12_000)
    found = front(np.concatenate([surface, within])[order])
    # On a sphere none beats another, and each point within is beaten by its own on it.
    assert found.tolist() == (order < 6_000).tolist()
    twice = np.array([[1.0, 2, 3], [1, 2, 3], [1, 2, 2], [0, 9, 0], [np.nan, 9, 9]])
    assert front(twice).tolist() == [True, True, False, True, False]
    assert front(np.array([[1.0, 2], [0, 2], [1, 1], [1, 2], [0, 3]])).tolist() == [True, False, False, True, True]
    endless = np.array([[np.inf, -np.inf], [5.0, -np.inf], [np.inf, 0.0]])
    assert front(endless).tolist() == [False, False, True]


def test_weights_order_by_standing_and_not_by_size():
    axes = np.array([[1.0, 5.0], [2.0, 1.0], [3.0, 900.0]])
    assert percentiles(axes[:, 1]) == pytest.approx([0.5, 1 / 6, 5 / 6])
    assert weighed(axes, np.array([1.0, 1.0])) == pytest.approx([1 / 3, 1 / 3, 5 / 6])
    assert weighed(axes, np.array([3.0, 1.0])) == pytest.approx([0.25, (1.5 + 1 / 6) / 4, 5 / 6])
    assert np.isnan(weighed(axes, np.zeros(2))).all()
    assert np.isnan(weighed(np.array([[1.0, np.nan], [2.0, 3.0]]), np.array([1.0, 1.0]))[0])


def test_of_a_list_at_most_so_many_of_a_group_stay_in_its_order():
    group = np.array([0, 0, 1, 0, 2, 1, 1])
    assert spread_out(group, 1).tolist() == [True, False, True, False, True, False, False]
    assert spread_out(group, 2).tolist() == [True, True, True, False, True, True, False]
    # Groups 0 and 2 count as one.
    alike = np.eye(3, dtype=bool)
    alike[0, 2] = alike[2, 0] = True
    assert spread_out(group, 1, alike).tolist() == [True, False, True, False, False, False, False]


def test_names_move_together_from_a_correlation_on():
    rng = np.random.default_rng(1)
    common = rng.standard_normal(300)
    returns = np.stack([common, 0.9 * common + 0.4 * rng.standard_normal(300), rng.standard_normal(300)])
    returns[2, :250] = np.nan
    found = moving_together(returns, 0.8)
    assert found.tolist() == [[True, True, False], [True, True, False], [False, False, True]]
    assert np.corrcoef(returns[0], returns[1])[0, 1] > 0.8
    assert not moving_together(returns, 0.99)[0, 1]


def test_seventy_percent_said_of_a_market_whose_truth_is_known_is_seventy_seen():
    rng = np.random.default_rng(4)
    said = rng.uniform(0, 1, 400_000)
    came = rng.uniform(0, 1, 400_000) < said
    found = reliability(said, came)
    assert found.said[7] == pytest.approx(0.75, abs=0.005)
    assert found.came == pytest.approx(found.said, abs=0.01)
    near = (said > 0.69) & (said < 0.71)
    assert 0.68 < came[near].mean() < 0.72
    assert found.cases.sum() == 400_000
    # The truth scores better than a bolder and a shyer one.
    truth = brier(said, came)
    assert truth == pytest.approx(1 / 6, abs=0.003)
    assert brier(np.clip(1.5 * said - 0.25, 0, 1), came) > truth < brier(0.5 + 0.5 * (said - 0.5), came)
    assert brier(np.array([0.2, np.nan, 1.0]), np.array([False, True, True])) == pytest.approx(0.02)
    assert np.isnan(brier(np.array([np.nan]), np.array([True])))


def test_a_chance_of_exactly_one_belongs_to_the_last_tenth():
    found = reliability(np.array([1.0, 0.95, 0.0]), np.array([True, False, False]))
    assert found.cases.tolist() == [1, 0, 0, 0, 0, 0, 0, 0, 0, 2]
    assert found.came[9] == 0.5
    assert np.isnan(found.came[1])


def test_the_chance_of_a_band_is_that_of_the_smiles_distribution():
    market = market_outcomes(PARAMETERS, T, np.full(6, 100.0))
    a, b, rho, m, sigma = PARAMETERS.T
    move = np.sqrt(a + b * (np.sqrt(m * m + sigma * sigma) - rho * m))
    for band in BANDS:
        wanted = [
            float(np.diff(chance_below(market, e, 100 * (1 + band * np.array([-1, 1]) * move[e])))[0]) for e in range(6)
        ]
        assert inside_smile(PARAMETERS, band) == pytest.approx(wanted, abs=1e-4)
    flat = np.array([[0.01, 0.0, 0.0, 0.0, 0.1]])
    assert inside_smile(flat, 1.0)[0] == pytest.approx(0.68, abs=0.01)
    assert np.isnan(inside_smile(np.full((1, 5), np.nan), 1.0)[0])


def test_structures_together_lose_what_each_loses():
    prices = np.stack([np.linspace(50, 150, 101), np.linspace(20, 80, 101)])
    profit = np.stack([10 * (prices[0] - 100), -5 * np.abs(prices[1] - 50)])
    rng = np.random.default_rng(2)
    returns = rng.normal(0, 0.02, (3, 200))
    returns[0, 120], returns[1, 120] = -0.12, -0.1
    returns[1, 7] = np.nan
    found = together(
        np.array([0, 1]), prices, profit, np.array([100.0, 50.0, 10.0]), np.array([2.0, 1.0, 1.0]), returns
    )
    assert found.at_moves == pytest.approx(np.array([[-40.0, -20, 20, 40], [-10, -5, -5, -10]]))
    assert found.worst_at == 120
    assert found.worst == pytest.approx([-120, -25])
    both = np.delete(np.arange(200), 7)
    assert found.correlation[0, 1] == pytest.approx(np.corrcoef(returns[0, both], returns[1, both])[0, 1])
    assert found.correlation[2, 2] == 1.0
    none = together(
        np.array([0]), prices[:1], profit[:1], np.array([100.0]), np.array([2.0]), np.full((1, 200), np.nan)
    )
    assert np.isnan(none.worst).all()
    assert none.worst_at == -1


def test_the_worst_day_is_that_of_all_and_not_of_one():
    prices = np.tile(np.linspace(50, 150, 101), (2, 1))
    profit = np.stack([10 * (prices[0] - 100), -9 * (prices[1] - 100)])
    returns = np.zeros((2, 59))
    # Both fall hardest on day 3, which costs nearly nothing; on day 8 they part.
    returns[:, 3] = -0.2
    returns[:, 8] = -0.02, 0.02
    found = together(np.array([0, 1]), prices, profit, np.array([100.0, 100.0]), np.ones(2), returns)
    assert found.worst_at == 8
    assert found.worst == pytest.approx([-20, -18])
    assert np.isnan(found.correlation).all(), "59 sessions are too few"
    longer = np.concatenate([returns, np.zeros((2, 1))], axis=1)
    assert np.isfinite(
        together(np.array([0, 1]), prices, profit, np.array([100.0, 100.0]), np.ones(2), longer).correlation
    ).all()


def test_the_past_of_a_band_knows_nothing_of_later_and_is_that_of_its_distribution():
    rng = np.random.default_rng(12)
    log_close = np.cumsum(0.02 * rng.standard_t(5, (2, 400)), axis=1)
    name, session, ahead = np.array([0, 1, 1]), np.array([250, 250, 50]), np.array([10, 21, 10])
    move = np.array([0.06, 0.09, 0.06])
    found = inside_past(log_close, name, session, ahead, move)
    later = log_close.copy()
    later[:, 251:] += 3.0
    assert inside_past(later, name, session, ahead, move) == pytest.approx(found, nan_ok=True)
    earlier = log_close.copy()
    earlier[:, 250] += 3.0
    assert inside_past(earlier, name, session, ahead, move)[0] != pytest.approx(found[0])
    assert np.isnan(found[2]).all(), "fewer than sixty stretches"
    outcomes = past_outcomes(np.exp(log_close[0, :251]), np.array([10]), np.array([1.0]))
    for k, band in enumerate(BANDS):
        edges = np.array([1 - band * 0.06, 1 + band * 0.06])
        assert found[0, k] == pytest.approx(float(np.diff(chance_below(outcomes, 0, edges))[0]), abs=0.01)


def test_the_forecast_of_a_band_is_that_of_its_distribution():
    deviation, tail, move = np.array([0.08, 0.1]), np.array([5.0, 30.0]), np.array([0.09, 0.07])
    outcomes = forecast_outcomes(deviation, tail, np.ones(2))
    for band in BANDS:
        found = inside_student(deviation, tail, move, band)
        for i in range(2):
            edges = np.array([1 - band * move[i], 1 + band * move[i]])
            # The table's mean is the forward, the band's middle its median: a little apart.
            assert found[i] == pytest.approx(float(np.diff(chance_below(outcomes, i, edges))[0]), abs=0.01)
    assert np.isnan(inside_student(np.array([np.nan]), tail[:1], move[:1], 1.0)[0])
