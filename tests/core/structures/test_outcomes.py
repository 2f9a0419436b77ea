"""Three opinions of a price: what the smile implies, what the past did, what a forecast says; and what they make of a payoff."""

import numpy as np
import pytest
import QuantLib as ql
from scipy.stats import kurtosis
from tests.core.structures.chain import FORWARD, MARKET, PARAMETERS, RATE, SPOT, T
from tests.core.structures.test_legs import WORKED, legs

from flinch.core.pricing import option_price
from flinch.core.structures import (
    breakevens,
    chance_below,
    excess_kurtosis,
    expiry_payoff,
    extremes,
    forecast_outcomes,
    lognormal_chance,
    market_outcomes,
    own_tail,
    past_outcomes,
    verdict,
)
from flinch.core.volatility import smile_vol

ONE = np.array([1])


def judged(outcomes, place, made, shares, cost):
    x = np.unique(made.strike)
    right = shares + 100 * made.quantity[made.is_call].sum()
    left = shares - 100 * made.quantity[~made.is_call].sum()
    worst = extremes(made, shares, cost)[1]
    return verdict(outcomes, place, x, expiry_payoff(made, shares, x), left=left, right=right, cost=cost, worst=worst)


def flat(vol: float, years: float, forward: float):
    return market_outcomes(np.array([[vol * vol * years, 0.0, 0.0, 0.0, 0.1]]), np.array([years]), np.array([forward]))


def test_the_smiles_distribution_sums_to_one_has_the_forward_as_mean_and_reprices_the_strikes():
    for e in range(6):
        strike = SPOT[e] * np.linspace(0.75, 1.3, 23)
        vol = smile_vol(np.tile(PARAMETERS[e], (23, 1)), np.full(23, T[e]), np.log(strike / FORWARD[e]))
        for is_call in (True, False):
            price = option_price(FORWARD[e], strike, T[e], vol, is_call=is_call)
            for k, wanted in zip(strike, price, strict=True):
                found = judged(MARKET, e, legs((1, is_call, k)), 0, 0.0).expected
                assert found == pytest.approx(100 * wanted, rel=1e-4, abs=1e-4 * FORWARD[e])
    assert MARKET.mean == pytest.approx(FORWARD)
    assert (np.diff(MARKET.chance, axis=1) >= 0).all()
    assert MARKET.chance[:, -1] == pytest.approx(np.ones(6))


def test_the_density_is_the_second_derivative_of_the_call():
    e, h = 4, 0.05
    at = np.array([215.0, 240.0, 255.0, 280.0])
    strike = (at[:, None] + np.array([-h, 0.0, h])).reshape(-1)
    vol = smile_vol(np.tile(PARAMETERS[e], (strike.size, 1)), np.full(strike.size, T[e]), np.log(strike / FORWARD[e]))
    call = option_price(FORWARD[e], strike, T[e], vol, is_call=True).reshape(-1, 3)
    below = 1 + (call[:, 2] - call[:, 0]) / (2 * h)
    assert chance_below(MARKET, e, at) == pytest.approx(below, abs=3e-5)


@pytest.mark.parametrize(("kind", "made", "shares", "cost"), [w[:4] for w in WORKED], ids=[w[0] for w in WORKED])
def test_under_a_flat_smile_chances_are_the_lognormal_ones(kind, made, shares, cost):
    vol, years = 0.35, 40 / 365
    found = judged(flat(vol, years, 100.0), 0, made, shares, float(cost))
    assert found.chance_of_profit == pytest.approx(
        lognormal_chance(made, shares, float(cost), 100.0, vol, years), abs=3e-5
    )
    price = option_price(100.0, made.strike, years, vol, is_call=made.is_call)
    assert found.expected == pytest.approx(
        100 * shares + 100 * (made.quantity * price).sum(), abs=0.02 + 2e-6 * abs(100 * shares)
    )


@pytest.mark.parametrize(("kind", "made", "shares", "cost"), [w[:4] for w in WORKED], ids=[w[0] for w in WORKED])
def test_chances_and_shortfall_are_those_of_drawn_prices(kind, made, shares, cost):
    """Prices at evenly spread chances of the distribution itself, a tenth of a percent being the resolution of the draw."""
    outcomes = MARKET
    z = (np.arange(200_000) + 0.5) / 200_000
    price = np.exp(
        np.interp(z, outcomes.chance[1], outcomes.low[1] + outcomes.step[1] * np.arange(outcomes.chance.shape[1]))
    )
    profit = np.sort(expiry_payoff(made, shares, price) - cost)
    found = judged(outcomes, 1, made, shares, float(cost))
    assert found.chance_of_profit == pytest.approx((profit > 0).mean(), abs=1e-3)
    assert found.shortfall == pytest.approx(profit[:10_000].mean(), rel=5e-3, abs=0.5)
    least = extremes(made, shares, float(cost))[1]
    if np.isfinite(least):
        assert found.chance_of_max_loss == pytest.approx((profit <= least + 1e-6).mean(), abs=1e-3)
    else:
        assert np.isnan(found.chance_of_max_loss)


def test_each_stretch_of_the_past_stands_in_the_middle_of_its_share():
    rng = np.random.default_rng(8)
    close = 50 * np.exp(np.cumsum(np.concatenate([[0.0], rng.permutation(np.linspace(-0.05, 0.06, 60))])))
    outcomes = past_outcomes(close, np.array([1]), np.array([80.0]))
    moves = np.diff(np.log(close))
    moves = np.sort(moves - moves.mean())
    price = np.exp(moves) * 80 / np.exp(moves).mean()
    at = np.array([4, 17, 30, 44, 55])
    assert chance_below(outcomes, 0, price[at]) == pytest.approx((at + 0.5) / 60, abs=2.5e-3)
    assert np.isnan(past_outcomes(close[1:], np.array([1]), np.array([80.0])).chance).all(), "59 stretches are too few"


def test_the_past_is_every_stretch_without_its_mean():
    rng = np.random.default_rng(2)
    close = 50 * np.exp(np.cumsum(0.004 + 0.02 * rng.standard_t(5, 400)))
    outcomes = past_outcomes(close, np.array([10]), np.array([80.0]))
    moves = np.log(close[10:] / close[:-10])
    moves -= moves.mean()
    price = np.exp(moves) * 80 / np.exp(moves).mean()
    assert outcomes.mean == pytest.approx([80.0])
    for at in (70.0, 76.0, 80.0, 85.0, 92.0):
        assert chance_below(outcomes, 0, np.array([at]))[0] == pytest.approx((price <= at).mean(), abs=0.006)
    call = legs((1, True, 84))
    assert judged(outcomes, 0, call, 0, 0.0).expected == pytest.approx(100 * np.maximum(price - 84, 0).mean(), rel=0.02)
    # A rise in the past is no promise: the same past with another drift says the same.
    drifting = past_outcomes(close * np.exp(0.003 * np.arange(400)), np.array([10]), np.array([80.0]))
    assert drifting.chance == pytest.approx(outcomes.chance, abs=1e-9)


def test_the_past_can_be_given_another_spread():
    close = 50 * np.exp(np.cumsum(0.02 * np.random.default_rng(3).standard_normal(400)))
    wide = past_outcomes(close, np.array([5]), np.array([50.0]), deviation=np.array([0.2]))
    cells = np.diff(wide.chance[0])
    middle = wide.low[0] + wide.step[0] * (np.arange(cells.size) + 0.5)
    mean = (cells * middle).sum()
    assert np.sqrt((cells * (middle - mean) ** 2).sum()) == pytest.approx(0.2, rel=0.02)


def test_the_past_says_nothing_from_few_stretches_and_nothing_of_gaps():
    close = 50 * np.exp(np.cumsum(0.02 * np.random.default_rng(4).standard_normal(80)))
    assert np.isnan(past_outcomes(close, np.array([21]), np.array([50.0])).chance).all()
    assert np.isfinite(past_outcomes(close, np.array([20]), np.array([50.0])).chance).all()
    close[40] = np.nan
    assert np.isnan(past_outcomes(close, np.array([20]), np.array([50.0])).chance).all()


def test_a_forecast_has_its_spread_its_tail_and_the_forward():
    outcomes = forecast_outcomes(
        np.array([0.1, 0.1, np.nan]), np.array([5.0, 100.0, 5.0]), np.array([100.0, 100.0, 100.0])
    )
    assert outcomes.mean[:2] == pytest.approx([100.0, 100.0])
    assert np.isnan(outcomes.chance[2]).all()
    student = ql.CumulativeStudentDistribution(5)
    scale = 0.1 * np.sqrt(3 / 5)
    middle = outcomes.low[0] + 1024 * outcomes.step[0]
    for k in (-0.25, -0.1, 0.03, 0.12):
        at = np.array([np.exp(middle + k)])
        assert chance_below(outcomes, 0, at)[0] == pytest.approx(student(k / scale), abs=3e-4)
    # The thicker tail has more beyond three deviations.
    far = np.array([100 * np.exp(-0.35)])
    assert chance_below(outcomes, 0, far)[0] > 2 * chance_below(outcomes, 1, far)[0]


def test_a_names_own_tail_comes_from_its_kurtosis_and_thins_out_with_time():
    rng = np.random.default_rng(6)
    returns = rng.standard_t(8, 200_000)
    excess = excess_kurtosis(returns)
    assert excess[-1] == pytest.approx(float(kurtosis(returns)), rel=1e-6)
    assert own_tail(excess[-1:], ONE)[0] == pytest.approx(8, abs=1.0)
    assert own_tail(excess[-1], np.array([1, 5, 21])) == pytest.approx([8, 24, 88], rel=0.25)
    assert own_tail(excess_kurtosis(rng.standard_normal(50_000))[-1:], ONE)[0] > 60
    assert np.isnan(excess[:59]).all()
    assert np.isfinite(excess[59])
    # What is missing does not count, and later returns change nothing before them.
    gap = returns[:200].copy()
    gap[50:60] = np.nan
    assert excess_kurtosis(gap)[-1] == pytest.approx(float(kurtosis(np.delete(returns[:200], slice(50, 60)))))
    assert excess_kurtosis(returns[:100])[:100] == pytest.approx(excess[:100], nan_ok=True)


def test_what_is_missing_stays_missing():
    nothing = market_outcomes(np.full((1, 5), np.nan), np.array([0.1]), np.array([100.0]))
    found = judged(nothing, 0, legs((1, True, 100)), 0, 100.0)
    assert np.isnan(found).all()
    over = market_outcomes(PARAMETERS[:1], np.array([0.0]), np.array([100.0]))
    assert np.isnan(over.chance).all()


def test_the_price_of_a_chance_is_the_structures_own_breakeven():
    made, cost = legs((1, True, 100), (-1, True, 110)), 380.0
    found = judged(MARKET, 1, made, 0, cost)
    edge = breakevens(made, 0, cost)
    assert found.chance_of_profit == pytest.approx(1 - chance_below(MARKET, 1, edge)[0], abs=1e-9)
    assert np.exp(-RATE * T[1]) * found.expected < 10 * 100
