"""The profile is every gamma worked out anew at every price; the flip is where it crosses zero."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.gamma import Contracts, contract_gamma, exposure_profile, gamma_flip, spot_grid

RATE = 0.03


def drawn(rng: np.random.Generator, names: int, contracts: int) -> tuple[Contracts, np.ndarray]:
    spot = rng.uniform(5, 500, names)
    name = np.sort(rng.integers(0, names, contracts))
    side = rng.choice([-1.0, 1.0], contracts)
    return (
        Contracts(
            name, spot[name] * np.exp(rng.normal(0, 0.15, contracts)), rng.uniform(0.003, 2, contracts),
            rng.uniform(0.1, 1.2, contracts), rng.choice([0.0, 0.03], contracts),
            side * rng.integers(0, 5000, contracts) * 100.0,
        ),
        spot,
    )  # fmt: skip


def net_at(contracts: Contracts, name: int, prices: np.ndarray) -> np.ndarray:
    """Net exposure of one name by one plain evaluation a price."""
    rows = contracts.group == name
    strike, years, vol, carry, weight = (values[rows] for values in contracts[1:])
    return np.array(
        [
            0.01 * s * s * np.nansum(weight * contract_gamma(s, strike, years, vol, rate=RATE, dividend_yield=carry))
            for s in prices
        ]
    )


def test_the_profile_is_the_plain_evaluation_at_each_of_its_prices():
    contracts, spot = drawn(np.random.default_rng(1), 20, 4000)
    found = exposure_profile(contracts, spot, rate=RATE)
    grid = spot_grid(spot)
    assert grid.shape == (20, 41)
    np.testing.assert_allclose(grid[:, 0], 0.8 * spot)
    np.testing.assert_allclose(grid[:, -1], 1.2 * spot)
    for name in range(20):
        plain = net_at(contracts, name, grid[name])
        np.testing.assert_allclose(found[name], plain, rtol=1e-8, atol=1e-8 * np.abs(plain).max())


def test_expired_unread_and_closed_contracts_count_for_nothing():
    contracts, spot = drawn(np.random.default_rng(2), 3, 90)
    spoiled = contracts._replace(
        years=np.where(np.arange(90) % 3 == 0, -0.001, contracts.years),
        vol=np.where(np.arange(90) % 3 == 1, np.nan, contracts.vol),
    )
    kept = np.arange(90) % 3 == 2
    alone = Contracts(*[values[kept] for values in contracts])
    np.testing.assert_allclose(exposure_profile(spoiled, spot, rate=RATE), exposure_profile(alone, spot, rate=RATE))
    nothing = contracts._replace(weight=np.zeros(90))
    assert np.array_equal(exposure_profile(nothing, spot), np.zeros((3, 41)))
    assert np.isnan(gamma_flip(nothing, spot)).all()


def test_the_flip_of_the_worked_example():
    strikes = np.array([95.0, 100.0, 105.0])
    weight = 100 * np.array([500.0 - 1500, 1000 - 1000, 2000 - 300])
    one = np.zeros(3, dtype=np.int64)
    contracts = Contracts(one, strikes, np.full(3, 30 / 365), np.full(3, 0.2), np.zeros(3), weight)
    assert gamma_flip(contracts, np.array([100.0]))[0] == pytest.approx(97.988, abs=0.001)
    long_everything = contracts._replace(weight=np.abs(contracts.weight))
    assert np.isnan(gamma_flip(long_everything, np.array([100.0]))[0])


@given(st.integers(0, 10_000))
def test_bracketing_the_root_finds_what_brute_force_finds(seed):
    contracts, spot = drawn(np.random.default_rng(seed), 1, 60)
    found = gamma_flip(contracts, spot, rate=RATE)[0]
    prices = spot[0] * np.exp(np.linspace(np.log(0.8), np.log(1.2), 2001))
    net = net_at(contracts, 0, prices)
    crossed = np.flatnonzero(np.sign(net[1:]) != np.sign(net[:-1]))
    if np.isnan(found):
        # Crossings that come in pairs within a step of the profile are the only ones that may be missed.
        steps = np.floor(crossed / 50)
        assert all((steps == step).sum() % 2 == 0 for step in steps)
        return
    middles = 0.5 * (prices[crossed] + prices[crossed + 1])
    assert np.abs(middles - found).min() < prices[1] - prices[0]
    assert abs(net_at(contracts, 0, np.array([found]))[0]) < 1e-4 * np.abs(net).max()
    nearer = middles[np.abs(middles - spot[0]) < abs(found - spot[0]) - 0.011 * spot[0]]
    steps = np.floor(np.searchsorted(prices, nearer) / 50)
    assert all((steps == step).sum() % 2 == 0 for step in steps), "a nearer crossing stands alone"


def test_names_must_come_in_order():
    contracts, spot = drawn(np.random.default_rng(3), 4, 40)
    with pytest.raises(ValueError, match="in order"):
        exposure_profile(contracts._replace(group=contracts.group[::-1].copy()), spot)
    assert np.isnan(exposure_profile(contracts, np.full(4, np.nan))).all()


@given(st.integers(0, 10_000), st.floats(0.1, 50))
def test_the_profile_is_linear_and_a_scale_of_prices_does_not_matter(seed, scale):
    contracts, spot = drawn(np.random.default_rng(seed), 3, 80)
    usual = exposure_profile(contracts, spot, rate=RATE)
    most = np.abs(usual).max() + 1e-9
    turned = contracts._replace(weight=-2 * contracts.weight)
    np.testing.assert_allclose(exposure_profile(turned, spot, rate=RATE), -2 * usual, atol=1e-9 * most)
    # Twice the price and half the contracts is the same stock after a split: as many dollars to hedge.
    split = contracts._replace(strike=contracts.strike * scale, weight=contracts.weight / scale)
    np.testing.assert_allclose(exposure_profile(split, scale * spot, rate=RATE), usual, atol=1e-7 * most)
    flips = gamma_flip(contracts, spot, rate=RATE)
    np.testing.assert_allclose(gamma_flip(split, scale * spot, rate=RATE), scale * flips, rtol=1e-6)
    np.testing.assert_allclose(gamma_flip(turned, spot, rate=RATE), flips, rtol=1e-7)


def test_the_crossing_nearest_to_the_market_is_the_flip():
    """Long at 90 and 110, short at 100: exposure changes sign on both sides of the price."""
    one = np.zeros(3, dtype=np.int64)
    weight = np.array([3000.0, -2500.0, 3000.0])
    contracts = Contracts(one, np.array([90.0, 100.0, 110.0]), np.full(3, 0.02), np.full(3, 0.2), np.zeros(3), weight)
    for spot, side in ((98.5, 1), (101.5, -1)):
        prices = np.linspace(0.8 * spot, 1.2 * spot, 4001)
        net = net_at(contracts, 0, prices)
        crossings = prices[:-1][np.sign(net[1:]) != np.sign(net[:-1])]
        assert crossings.size == 2
        found = gamma_flip(contracts, np.array([spot]), rate=RATE)[0]
        nearest = crossings[np.abs(crossings - spot).argmin()]
        assert found == pytest.approx(nearest, abs=0.02)
        assert (spot - found) * side > 0
