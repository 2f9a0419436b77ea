"""The compiled smile kernels against the literature's own definitions, computed another way."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import least_squares, minimize

from flinch.core.pricing import option_price
from flinch.core.volatility import fit_smiles, smile_vol
from flinch.core.volatility.svi import (
    RAW,
    STEEPEST,
    WHOLE_LINE,
    Rows,
    _objective,
    _raw_slice,
    _surface_slice,
    density_factor,
    scaled_density,
    sound,
    total_variance,
)

PARAMETERS = st.tuples(
    st.floats(0.005, 0.2), st.floats(0.02, 0.4), st.floats(-0.9, 0.9), st.floats(-0.3, 0.3), st.floats(0.05, 0.6)
)


@given(PARAMETERS, st.floats(-0.8, 0.8))
def test_raw_svi_is_its_formula_and_reads_back_as_volatility(parameters, k):
    a, b, rho, m, sigma = parameters
    expected = a + b * (rho * (k - m) + np.sqrt((k - m) ** 2 + sigma**2))
    assert total_variance(*parameters, k) == pytest.approx(expected)
    if expected > 0:
        vol = smile_vol(np.array([parameters]), np.array([0.5]), np.array([k]))
        assert vol[0] == pytest.approx(np.sqrt(expected / 0.5))


@settings(max_examples=80)
@given(PARAMETERS, st.floats(-0.5, 0.5))
def test_durrlemans_g_is_the_density_of_the_prices(parameters, k):
    """Breeden & Litzenberger (1978): the second derivative of the call price in strike is the density; g carries its sign."""
    if total_variance(*parameters, k) < 1e-3:
        return
    step = 1e-3
    strikes = np.exp(k) * (1 + step * np.arange(-1, 2))
    total = np.array([total_variance(*parameters, np.log(strike)) for strike in strikes])
    price = option_price(1.0, strikes, 1.0, np.sqrt(total), is_call=True)
    by_prices = (price[0] - 2 * price[1] + price[2]) / (np.exp(k) * step) ** 2
    w = total_variance(*parameters, k)
    d2 = -k / np.sqrt(w) - 0.5 * np.sqrt(w)
    g = density_factor(*parameters, k)
    by_formula = g * np.exp(-0.5 * d2 * d2) / np.sqrt(2 * np.pi * w) / np.exp(k)
    assert by_prices == pytest.approx(by_formula, abs=2e-3 * (1 + abs(by_formula)))


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.3, 4.0), st.floats(-1.0, 1.0), st.floats(0.2, 2.0))
def test_the_slice_is_the_best_within_its_bounds(seed, steepest, m, s):
    """The linear part against a bounded search over the same three numbers."""
    rng = np.random.default_rng(seed)
    z = np.sort(rng.uniform(-2, 2, 9))
    v = np.maximum(0.02, rng.normal(1, 0.2) + rng.normal(0, 1.2) * z + rng.uniform(-0.5, 1.5) * z * z)
    weight = rng.uniform(0.2, 1.0, 9)
    out = np.empty(5)
    found = _raw_slice(z, v, weight, m, s, steepest, out)
    a, b, rho = out[:3]
    assert a >= 0
    assert b >= 0
    assert abs(rho) <= 1 + 1e-9
    assert b * (1 + abs(rho)) <= steepest * (1 + 1e-9)
    y = (z - m) / s
    h = np.sqrt(y * y + 1)

    def loss(x):
        return (weight * (x[0] + x[1] * y + x[2] * h - v) ** 2).sum() / weight.sum()

    assert found == pytest.approx(loss([a, b * rho * s, b * s]), rel=1e-6, abs=1e-9)
    bounds = [
        {"type": "ineq", "fun": lambda x: x[2] - x[1]},
        {"type": "ineq", "fun": lambda x: x[2] + x[1]},
        {"type": "ineq", "fun": lambda x: steepest * s - x[2] - x[1]},
        {"type": "ineq", "fun": lambda x: steepest * s - x[2] + x[1]},
        {"type": "ineq", "fun": lambda x: x[0]},
    ]
    search = minimize(
        loss,
        [0.5, 0.0, 0.1 * steepest * s],
        method="SLSQP",
        constraints=bounds,
        options={"ftol": 1e-14, "maxiter": 500},
    )
    assert found <= search.fun + 1e-6 * (1 + search.fun)


def rows(strikes: int, level=0.4, years=0.25, slope=-0.1):
    """One expiry's options along a straight smile."""
    k = np.linspace(-0.25, 0.25, strikes)
    return np.zeros(strikes, dtype=int), k, level + slope * k, np.full(strikes, 0.01), np.array([years])


def test_an_outlier_with_a_wide_quote_hardly_moves_the_fit():
    group, k, vol, spread, years = rows(15)
    wrong, wide = vol.copy(), spread.copy()
    wrong[3] += 0.3
    wide[3] = 0.6
    one = np.zeros(1, dtype=int)
    plain = fit_smiles(group, k, vol, spread, name=one, years=years).vol[0]
    assert fit_smiles(group, k, wrong, wide, name=one, years=years).vol[0] == pytest.approx(plain, abs=2e-3)
    assert plain == pytest.approx(0.4, abs=2e-3)


def test_rows_may_come_in_any_order():
    group, k, vol, spread, years = rows(12)
    k = k + 0.003  # no two strikes equally near to the forward
    one = np.zeros(1, dtype=int)
    order = np.random.default_rng(4).permutation(12)
    plain = fit_smiles(group, k, vol, spread, name=one, years=years)
    mixed = fit_smiles(group, k[order], vol[order], spread[order], name=one, years=years)
    assert np.array_equal(plain.parameters, mixed.parameters)
    assert (plain.low[0], plain.high[0]) == (k[0], k[-1])


def test_a_thin_expiry_takes_the_shape_of_its_neighbours_at_its_own_level():
    """Two quotes beside the money on a steep smile: alone they say nothing about the forward, the name's shape does."""
    years = np.array([0.1, 0.25, 0.5])
    parts = []
    for e, level in enumerate((0.5, 0.4, 0.35)):
        deviation = level * np.sqrt(years[e])
        z = np.linspace(-1.6, 1.6, 13) if e else np.array([-0.9, -0.8])
        y = -0.6 * z
        vol = level * np.sqrt(0.5 * (1 + y * 0.7 + np.sqrt((y + 0.7) ** 2 + 1 - 0.49)))
        parts.append((np.full(z.size, e), z * deviation, vol, np.full(z.size, 0.01)))
    group, k, vol, spread = (np.concatenate(column) for column in zip(*parts, strict=True))
    found = fit_smiles(group, k, vol, spread, name=np.zeros(3, dtype=int), years=years)
    assert found.strikes.tolist() == [2, 13, 13]
    assert found.vol[0] == pytest.approx(0.5, abs=0.02)
    assert vol[0] - 0.5 > 0.04, "the quotes themselves lie far above"


def test_nothing_to_fit_is_nothing():
    none = np.empty(0)
    found = fit_smiles(none.astype(int), none, none, none, name=np.zeros(2, dtype=int), years=np.array([0.1, 0.2]))
    assert np.isnan(found.vol).all()
    assert found.strikes.tolist() == [0, 0]


def plain_fit(k: np.ndarray, w: np.ndarray, weight: np.ndarray) -> float:
    """The least weighted misfit that a search over all five numbers finds: the plain twin of the compiled fit of one expiry."""
    best = np.inf
    for rho, m, sigma in ((-0.5, 0.0, 0.2), (0.0, 0.1, 0.1), (0.3, -0.1, 0.4)):
        found = least_squares(
            lambda x: np.sqrt(weight) * (x[0] + x[1] * (x[2] * (k - x[3]) + np.hypot(k - x[3], x[4])) - w),
            [0.5 * w.min(), 0.1, rho, m, sigma],
            bounds=([0.0, 0.0, -1.0, -2.0, 1e-3], [1.0, 2.0, 1.0, 2.0, 3.0]),
            x_scale=[0.01, 0.1, 0.5, 0.1, 0.1],
        )
        best = min(best, 2 * found.cost)
    return best


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000))
def test_the_fit_of_an_expiry_is_as_good_as_a_plain_search(seed):
    rng = np.random.default_rng(seed)
    years, level = rng.uniform(0.05, 1.0), rng.uniform(0.15, 0.7)
    deviation = level * np.sqrt(years)
    k = deviation * np.sort(rng.uniform(-2.2, 2.2, 17))
    # An SSVI slice, which is free of butterflies, with the noise of quotes.
    rho, phi = rng.uniform(-0.7, 0.3), rng.uniform(0.3, 0.9) / deviation
    theta = deviation**2
    true = 0.5 * theta * (1 + rho * phi * k + np.sqrt((phi * k + rho) ** 2 + 1 - rho**2))
    spread = rng.uniform(0.004, 0.02, k.size)
    vol = np.sqrt(true / years) + 0.3 * spread * rng.normal(size=k.size)
    group = np.zeros(k.size, dtype=np.int64)
    fit = fit_smiles(group, k, vol, spread, name=np.zeros(1, dtype=np.int64), years=np.array([years]))
    a, b, r, m, sigma = fit.parameters[0]
    w, weight = vol * vol * years, 1 / (2 * vol * years * spread) ** 2
    misfit = (weight * (a + b * (r * (k - m) + np.hypot(k - m, sigma)) - w) ** 2).sum()
    # A search from one start ends in a shallower valley in three of a thousand cases, twice as far away at most.
    assert misfit <= 2.5 * plain_fit(k, w, weight) + 0.1
    assert misfit <= 1.05 * (weight * (true - w) ** 2).sum() + 0.02, "no worse than the slice that was quoted"


@pytest.mark.parametrize(("phi", "deviation"), [(0.5, 0.3), (0.5, 2.0), (20.0, 0.3), (400.0, 0.3)])
def test_a_surfaces_slice_stays_within_what_keeps_it_free_of_butterflies(phi: float, deviation: float):
    """Gatheral & Jacquier (2014), theorem 4.2: theta phi (1 + |rho|) < 4 and theta phi^2 (1 + |rho|) <= 4."""
    z, rho = np.linspace(-2, 2, 15), -0.5
    out = np.zeros(5)
    _surface_slice(z, np.full(15, 50.0), np.ones(15), rho, phi, deviation, out)
    theta = 2 * out[1] / phi
    lean = 1 + abs(rho)
    assert theta > 0
    assert theta * phi * phi * lean <= 4
    assert theta * phi * deviation * lean <= 4


def test_a_fit_below_the_expiration_before_costs_by_how_far_it_is_below():
    z, v = np.linspace(-2, 2, 11), np.linspace(1.2, 0.9, 11)

    def cost(floor: float) -> float:
        rows = Rows(z, v, np.ones(11), np.full(11, floor), np.array([0, 11]), np.array([0.3]))
        return _objective(RAW, 0.0, 0.0, rows, np.zeros(5))

    assert cost(0.1) == cost(0.0), "one that lies above pays nothing"
    assert cost(2.0) > cost(1.5) > cost(0.0)


def test_a_wing_steeper_than_lees_bound_is_not_sound_though_its_density_is():
    """Lee (2004): total variance grows at most twice as fast as log-moneyness; the steeper wing has the slope b (1 + |rho|)."""
    deviation, z = 0.1, np.linspace(-2, 2, 9)
    wide = np.array([10.0, 0.9 * STEEPEST / deviation, -0.3, 0.0, 8.0])
    assert min(scaled_density(wide, deviation, float(at)) for at in WHOLE_LINE) > 0
    assert not sound(wide, z, deviation)
    within = wide.copy()
    within[1] *= 0.8
    assert sound(within, z, deviation)
