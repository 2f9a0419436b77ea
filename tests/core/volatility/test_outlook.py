"""Forecast, cone and correlations: against plain arithmetic, and without a look ahead."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.volatility import (
    HORIZONS,
    SHARES,
    average_correlation,
    forecast_errors,
    forecast_vol,
    historical_vol,
    realised_ahead,
    return_correlations,
    session_variance,
    volatility_cone,
    weighted_vol,
)


def bars(names=6, sessions=400, seed=1, persistence=0.97):
    """Names whose volatility comes and goes."""
    rng = np.random.default_rng(seed)
    state, out = np.zeros(names), np.empty((4, names, sessions))
    level = np.full(names, np.log(50.0))
    for t in range(sessions):
        state = persistence * state + 0.12 * rng.normal(size=names)
        daily = 0.02 * np.exp(state)
        opened = level + 0.5 * daily * rng.normal(size=names)
        steps = opened[:, None] + np.cumsum(daily[:, None] / 8 * rng.normal(size=(names, 64)), axis=1)
        level = steps[:, -1]
        out[:, :, t] = opened, np.maximum(steps.max(1), opened), np.minimum(steps.min(1), opened), level
    return np.exp(out)


@pytest.fixture(scope="module")
def made():
    return bars()


def test_session_variance_is_gap_and_range():
    found = session_variance(*(np.array([[a, b]]) for a, b in ((100.0, 102.0), (103, 105), (99, 101), (101, 104))))
    assert np.isnan(found[0, 0])
    assert found[0, 1] == pytest.approx(np.log(102 / 101) ** 2 + np.log(105 / 101) ** 2 / (4 * np.log(2)))


def test_altering_the_future_changes_no_forecast_of_the_past(made):
    variance = session_variance(*made)
    before = forecast_vol(variance)
    for cut in (150, 260, 399):
        changed = variance.copy()
        changed[:, cut:] *= 50
        assert np.array_equal(forecast_vol(changed)[:, :cut], before[:, :cut], equal_nan=True)


def test_the_forecast_beats_the_last_value_and_the_long_mean_where_volatility_comes_and_goes():
    variance = session_variance(*bars(40, 500, seed=3))
    forecast = forecast_vol(variance)
    errors = forecast_errors(variance, forecast, np.full(variance.shape, 0.4))
    assert errors.outcomes > 5_000
    assert errors.forecast < errors.last
    assert errors.forecast < errors.long_mean


def test_errors_are_the_root_of_the_mean_square_against_what_came(made):
    variance = session_variance(*made)
    guess = np.full(variance.shape, 0.33)
    found = forecast_errors(variance, guess, guess)
    came = realised_ahead(variance)[:, 62:-21]
    assert found.forecast == found.implied
    late = [(0.33 - came[i, t]) ** 2 for i in range(6) for t in range(came.shape[1]) if np.isfinite(came[i, t])]
    assert found.forecast == pytest.approx(np.sqrt(np.mean(late)), rel=0.02)


def test_a_young_name_has_no_forecast_yet(made):
    young = made.copy()
    young[:, 0, :-50] = np.nan
    assert np.isnan(forecast_vol(session_variance(*young))[0]).all()


def test_the_cone_is_the_quantiles_of_every_window(made):
    one = made[:, 0]
    cone = volatility_cone(*one)
    for place, horizon in enumerate(HORIZONS):
        history = historical_vol(*one, horizon, estimator="yang_zhang")
        known = history[np.isfinite(history)]
        assert cone.quantiles[place] == pytest.approx(np.percentile(known, SHARES))
        assert cone.last[place] == history[-1]
        assert cone.windows[place] == known.size == 400 - horizon


def test_a_name_of_twelve_sessions_has_the_shortest_horizon_only(made):
    cone = volatility_cone(*made[:, 0, :12])
    assert cone.windows.tolist() == [2, 0, 0, 0, 0, 0]
    assert np.isnan(cone.quantiles[1:]).all()


@given(st.floats(-0.1, 0.95), st.integers(2, 30), st.integers(0, 1000))
def test_one_correlation_between_all_members_is_found_again(rho, members, seed):
    if rho <= -1 / (members - 1):
        return
    rng = np.random.default_rng(seed)
    vols, weights = rng.uniform(0.1, 0.8, members), rng.uniform(0.1, 1.0, members)
    w = weights / weights.sum()
    matrix = np.full((members, members), rho) + (1 - rho) * np.eye(members)
    fund = np.sqrt((w * vols) @ matrix @ (w * vols))
    found = average_correlation(np.array([fund]), vols[:, None], weights)
    assert found[0] == pytest.approx(rho, abs=1e-6)
    assert weighted_vol(vols[:, None], weights)[0] == pytest.approx(w @ vols)


def test_a_fund_with_too_many_members_missing_has_none():
    vols = np.array([[0.3, 0.3], [0.4, np.nan], [0.2, 0.2]])
    found = average_correlation(np.array([0.2, 0.2]), vols, np.array([0.4, 0.3, 0.3]))
    assert np.isfinite(found[0])
    assert np.isnan(found[1])
    assert np.isnan(weighted_vol(vols, np.array([0.4, 0.3, 0.3]))[1])


def test_correlations_of_returns_are_pairwise_over_what_both_have(made):
    close = made[3].copy()
    close[0, 50:60] = np.nan
    close[1, :-20] = np.nan
    found = return_correlations(close)
    returns = np.diff(np.log(close), axis=1)
    both = np.isfinite(returns[0]) & np.isfinite(returns[2])
    assert found[0, 2] == pytest.approx(np.corrcoef(returns[0, both], returns[2, both])[0, 1])
    assert found[2, 3] == pytest.approx(np.corrcoef(returns[2], returns[3])[0, 1])
    assert np.isnan(found[1, 2])
    assert np.allclose(found, found.T, equal_nan=True)


@pytest.mark.parametrize("estimator", ["close_to_close", "parkinson", "garman_klass", "rogers_satchell", "yang_zhang"])
def test_volatility_without_earnings_is_that_of_the_other_sessions(made, estimator):
    one = made[:, 0]
    left_out = np.zeros(400, dtype=bool)
    left_out[[100, 163, 390, 399]] = True
    wild = one.copy()
    # The reaction alone is wild: its own bar, and the gap before it. The price is back at the close.
    found = historical_vol(*one, 21, estimator=estimator, left_out=left_out)
    plain = historical_vol(*one, 21, estimator=estimator)
    assert found[90] == plain[90]
    assert found[399] == found[398], "a session left out has the value of the one before"
    wild[1, 390] *= 1.5
    wild[2, 390] /= 1.5
    assert np.array_equal(historical_vol(*wild, 21, estimator=estimator, left_out=left_out), found, equal_nan=True)
    assert np.isnan(found[:20]).all()
