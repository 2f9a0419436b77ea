"""The five estimators: on a diffusion of known volatility, on bars worked by hand, and where each one is blind."""

import math
import statistics

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from flinch.core.volatility import ESTIMATORS, historical_vol


def diffusion(names, sessions, *, vol, drift=0.0, overnight=0.0, steps=390, seed=5):
    """Bars of a geometric Brownian motion; `overnight` is the share of a day's variance that falls in the gap."""
    rng = np.random.default_rng(seed)
    daily = vol / math.sqrt(252)
    gap = rng.normal(0, daily * math.sqrt(overnight), (names, sessions))
    step = rng.normal(drift / 252 / steps, daily * math.sqrt((1 - overnight) / steps), (names, sessions, steps))
    within = np.cumsum(step, axis=2)
    start = np.cumsum(gap + np.concatenate([np.zeros((names, 1)), within[:, :-1, -1]], axis=1), axis=1)
    path = np.concatenate([start[:, :, None], start[:, :, None] + within], axis=2)
    return tuple(100 * np.exp(side) for side in (path[:, :, 0], path.max(axis=2), path.min(axis=2), path[:, :, -1]))


@pytest.mark.parametrize("estimator", ESTIMATORS)
def test_recovers_the_volatility_of_a_diffusion(estimator):
    bars = diffusion(60, 253, vol=0.30)
    found = historical_vol(*bars, 252, estimator=estimator)[:, -1]
    # Extremes of a path seen at 390 points a day are a little too near: range estimators read some 4 % low.
    assert np.mean(found) == pytest.approx(0.30, rel=0.05)
    assert np.std(found) < 0.30 * 0.07


def test_only_some_see_the_gap_between_sessions():
    bars = diffusion(60, 253, vol=0.30, overnight=0.4)
    seen = {e: float(np.mean(historical_vol(*bars, 252, estimator=e)[:, -1])) for e in ESTIMATORS}
    for whole in ("close_to_close", "yang_zhang"):
        assert seen[whole] == pytest.approx(0.30, rel=0.05)
    for blind in ("parkinson", "garman_klass", "rogers_satchell"):
        assert seen[blind] == pytest.approx(0.30 * math.sqrt(0.6), rel=0.05)


def test_rogers_satchell_does_not_mistake_drift_for_volatility_and_parkinson_does():
    bars = diffusion(40, 253, vol=0.20, drift=5.0)
    rogers, parkinson = (
        np.mean(historical_vol(*bars, 252, estimator=e)[:, -1]) for e in ("rogers_satchell", "parkinson")
    )
    assert rogers == pytest.approx(0.20, rel=0.08)
    assert parkinson > 0.22


BARS = (
    np.array([100.0, 102.0, 101.0, 103.0]),
    np.array([103.0, 104.0, 103.5, 106.0]),
    np.array([99.0, 100.5, 100.0, 102.0]),
    np.array([102.5, 101.0, 103.0, 105.0]),
)


def by_hand(estimator, window):
    """The papers' formulas, a session at a time."""
    o, h, low, c = ([float(v) for v in side] for side in BARS)
    days = range(len(o) - window, len(o))
    log = math.log
    rs = [log(h[i] / c[i]) * log(h[i] / o[i]) + log(low[i] / c[i]) * log(low[i] / o[i]) for i in days]
    if estimator == "close_to_close":
        variance = statistics.variance([log(c[i] / c[i - 1]) for i in days])
    elif estimator == "parkinson":
        variance = statistics.mean(log(h[i] / low[i]) ** 2 for i in days) / (4 * log(2))
    elif estimator == "garman_klass":
        variance = statistics.mean(
            0.5 * log(h[i] / low[i]) ** 2 - (2 * log(2) - 1) * log(c[i] / o[i]) ** 2 for i in days
        )
    elif estimator == "rogers_satchell":
        variance = statistics.mean(rs)
    else:
        k = 0.34 / (1.34 + (window + 1) / (window - 1))
        overnight = statistics.variance([log(o[i] / c[i - 1]) for i in days])
        through = statistics.variance([log(c[i] / o[i]) for i in days])
        variance = overnight + k * through + (1 - k) * statistics.mean(rs)
    return math.sqrt(252 * variance)


@pytest.mark.parametrize("estimator", ESTIMATORS)
def test_agrees_with_the_formulas_worked_by_hand(estimator):
    found = historical_vol(*BARS, 3, estimator=estimator)
    assert found[-1] == pytest.approx(by_hand(estimator, 3), rel=1e-12)


@pytest.mark.parametrize("estimator", ESTIMATORS)
def test_no_value_until_complete_nor_over_a_missing_session(estimator):
    bars = [side.copy() for side in diffusion(1, 40, vol=0.3, steps=20)]
    needed = 10 + (estimator in ("close_to_close", "yang_zhang"))
    for side in bars:
        side[0, 20] = np.nan
    found = historical_vol(*bars, 10, estimator=estimator)[0]
    assert np.isnan(found[: needed - 1]).all()
    assert np.isfinite(found[needed - 1 : 20]).all()
    assert np.isnan(found[20 : 20 + needed]).all()
    assert np.isfinite(found[20 + needed :]).all()


@settings(max_examples=40)
@given(st.floats(0.01, 1e4), st.integers(2, 60), st.sampled_from(ESTIMATORS))
def test_the_unit_of_price_does_not_matter(unit, window, estimator):
    bars = diffusion(2, 80, vol=0.4, overnight=0.2, steps=10)
    scaled = [unit * side for side in bars]
    assert np.allclose(
        historical_vol(*bars, window, estimator=estimator),
        historical_vol(*scaled, window, estimator=estimator),
        rtol=1e-7,
        equal_nan=True,
    )


def test_bad_arguments_are_named():
    with pytest.raises(ValueError, match="at least 2"):
        historical_vol(*BARS, 1, estimator="parkinson")
    with pytest.raises(ValueError, match="one of close_to_close"):
        historical_vol(*BARS, 3, estimator="garch")
