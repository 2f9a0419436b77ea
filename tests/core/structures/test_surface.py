"""What structures are worth at other prices, dates and volatilities."""

import numpy as np
import pytest
from tests.core.structures.chain import CARRY, FORWARD, MARKET, PARAMETERS, RATE, SURFACE, YEARS

from flinch.core.pricing import option_price
from flinch.core.structures import (
    Legs,
    Surface,
    expiry_payoff,
    later_vol,
    market_outcomes,
    structure_greeks,
    value,
    variance_by,
    with_levels,
)
from flinch.core.structures.surface import later_carry
from flinch.core.volatility import smile_vol

AMERICAN = SURFACE._replace(exercise="american")
LEVELLED = with_levels(SURFACE, MARKET, np.arange(3))
SPOTS = np.linspace(70, 130, 41)


def legs(*each: tuple[float, bool, float, int]) -> Legs:
    quantity, is_call, strike, place = (np.array(column) for column in zip(*each, strict=True))
    return Legs(quantity.astype(float), is_call.astype(bool), strike.astype(float), YEARS[place])


BOX = legs((1, True, 95, 1), (-1, True, 105, 1), (1, False, 105, 1), (-1, False, 95, 1))
CONDOR = legs((1, False, 85, 1), (-1, False, 92, 1), (-1, True, 107, 1), (1, True, 114, 1))


@pytest.mark.parametrize("surface", [SURFACE, LEVELLED], ids=["plain", "levelled"])
@pytest.mark.parametrize("time", [0.0, YEARS[0], YEARS[1]])
def test_a_box_is_worth_its_discounted_width_whatever_price_and_volatility(surface, time):
    for shift in (-0.05, 0.0, 0.2):
        worth = value(BOX, 0.0, SPOTS, time, surface, shift)
        assert worth == pytest.approx(np.full(41, 1_000 * np.exp(-RATE * (YEARS[1] - time))), rel=1e-9)


def test_a_conversion_is_worth_its_carry():
    conversion = legs((-1, True, 100, 2), (1, False, 100, 2))
    worth = value(conversion, 100.0, SPOTS, 0.0, SURFACE)
    # 100 shares, a strike to receive, and what the shares bring until then.
    assert worth == pytest.approx(
        100 * SPOTS * (1 - np.exp(-CARRY * YEARS[2])) + 10_000 * np.exp(-RATE * YEARS[2]), rel=1e-9
    )


def test_at_its_end_a_structure_is_worth_its_payoff_and_today_what_the_surface_says():
    assert value(CONDOR, 0.0, SPOTS, float(YEARS[1]), SURFACE) == pytest.approx(
        expiry_payoff(CONDOR, 0.0, SPOTS), abs=1e-9
    )
    vol = smile_vol(np.tile(PARAMETERS[1], (4, 1)), np.full(4, YEARS[1]), np.log(CONDOR.strike / FORWARD[1]))
    price = option_price(100, CONDOR.strike, YEARS[1], vol, is_call=CONDOR.is_call, rate=RATE, dividend_yield=CARRY)
    assert float(value(CONDOR, 0.0, 100.0, 0.0, SURFACE)) == pytest.approx(100 * (CONDOR.quantity * price).sum())


def test_a_structure_of_american_options_is_worth_no_less_than_exercise_and_than_european_ones():
    put = legs((1, False, 110, 2))
    american, european = value(put, 0.0, SPOTS, 0.0, AMERICAN), value(put, 0.0, SPOTS, 0.0, SURFACE)
    assert (american >= european - 1e-9).all()
    assert (american >= 100 * np.maximum(110 - SPOTS, 0) - 1e-9).all()
    exact = np.array([float(value(put, 0.0, spot, 0.0, AMERICAN)) for spot in SPOTS[::4]])
    # Between the prices at which early exercise is computed it is interpolated: within a cent a share.
    assert american[::4] == pytest.approx(exact, abs=1.0)


def test_variance_comes_evenly_between_expirations_but_for_that_of_a_report():
    total = SURFACE.variance
    assert variance_by(SURFACE, YEARS) == pytest.approx(total)
    assert variance_by(SURFACE, 0.5 * (YEARS[0] + YEARS[1])) == pytest.approx(0.5 * (total[0] + total[1]))
    assert variance_by(SURFACE, 0.5 * YEARS[0]) == pytest.approx(0.5 * total[0])
    assert np.isnan(variance_by(SURFACE, YEARS[2] + 0.1))
    event = 0.3 * float(total[1] - total[0])
    reported = SURFACE._replace(event_years=float(YEARS[0]) + 0.02, event_variance=event)
    before, after = (float(variance_by(reported, YEARS[0] + 0.02 + d)) for d in (-1e-6, 1e-6))
    assert after - before == pytest.approx(event, rel=0.01)
    assert variance_by(reported, YEARS) == pytest.approx(total)


def test_volatility_now_is_the_fitted_one_and_later_that_of_the_variance_which_is_left():
    k = np.linspace(-0.1, 0.1, 5)
    assert later_vol(SURFACE, 1, 0.0, k) == pytest.approx(
        smile_vol(np.tile(PARAMETERS[1], (5, 1)), np.full(5, YEARS[1]), k)
    )
    left = float(YEARS[2] - YEARS[1])
    wanted = np.sqrt((SURFACE.variance[2] - SURFACE.variance[1]) / left)
    assert later_vol(SURFACE, 2, float(YEARS[1]), np.zeros(1))[0] == pytest.approx(wanted)
    assert np.isnan(later_vol(SURFACE, 0, float(YEARS[0]), np.zeros(1))[0])


def test_after_a_report_volatility_falls_to_what_is_left():
    total = SURFACE.variance + np.array([0.0, 0.006, 0.006])
    parameters = SURFACE.parameters.copy()
    parameters[:, 0] += total - SURFACE.variance
    reported = Surface(
        YEARS, np.full(3, CARRY), parameters, RATE, "european", float(YEARS[0]) + 0.01, 0.006
    )  # fmt: skip
    before = later_vol(reported, 1, float(YEARS[0]) + 0.009, np.zeros(1))[0]
    after = later_vol(reported, 1, float(YEARS[0]) + 0.011, np.zeros(1))[0]
    assert after < 0.75 * before


def test_levels_make_the_market_reprice_the_later_option():
    for near, far in ((0, 1), (0, 2), (1, 2)):
        strike = 100 * np.exp((RATE - CARRY) * YEARS[far])
        call = legs((1, True, float(strike), far))
        price = np.exp(MARKET.low[near] + MARKET.step[near] * np.arange(2049))
        worth = value(call, 0.0, price, float(YEARS[near]), LEVELLED)
        mean = (np.diff(MARKET.chance[near]) * 0.5 * (worth[1:] + worth[:-1])).sum() * np.exp(-RATE * YEARS[near])
        assert mean == pytest.approx(float(value(call, 0.0, 100.0, 0.0, LEVELLED)), rel=2e-3)
    assert LEVELLED.levels is not None
    # Without a smile nothing is to be made good.
    flat = SURFACE._replace(parameters=np.stack([[0.09 * t, 0, 0, 0, 0.1] for t in YEARS]))
    market = market_outcomes(flat.parameters, YEARS, 100 * np.exp((RATE - CARRY) * YEARS))
    assert with_levels(flat, market, np.arange(3)).levels == pytest.approx(np.ones((3, 3)), abs=2e-3)


def test_greeks_are_the_slopes_of_the_value():
    made = legs((-1, True, 105, 0), (1, True, 105, 2), (-1, False, 92, 1))
    found = structure_greeks(made, 50.0, 100.0, SURFACE)
    up, down = (float(value(made, 50.0, 100.0 + d, 0.0, _pinned(100.0 + d))) for d in (0.01, -0.01))
    assert found.delta == pytest.approx((up - down) / 0.02, rel=1e-3)
    wider, narrower = (float(value(made, 50.0, 100.0, 0.0, SURFACE, d)) for d in (0.001, -0.001))
    assert found.vega == pytest.approx((wider - narrower) / 0.2, rel=1e-3)


def test_greeks_along_the_way_are_those_of_the_days():
    made = legs((-1, True, 105, 0), (2, True, 96, 2))
    times = np.array([0.0, 0.5 * YEARS[0], YEARS[0]])
    found = structure_greeks(made, 50.0, 100.0, LEVELLED, times)
    for i, time in enumerate(times.tolist()):
        assert found.worth[i] == pytest.approx(float(value(made, 50.0, 100.0, time, LEVELLED)), abs=1e-6)
        wider, narrower = (float(value(made, 50.0, 100.0, time, LEVELLED, d)) for d in (0.0005, -0.0005))
        assert found.vega[i] == pytest.approx((wider - narrower) / 0.1, rel=1e-3)
    assert np.isfinite(found.gamma[:2]).all()
    assert np.isnan(found.gamma[2]), "an option that ends has none"
    assert np.isnan(found.theta[2])
    # What ends out of the money has no delta any more, what ends in it that of shares.
    lone = structure_greeks(legs((-1, True, 105, 0)), 0.0, 100.0, SURFACE, float(YEARS[0]))
    assert (float(lone.delta), float(lone.worth), float(lone.vega)) == (0.0, 0.0, 0.0)
    inside = structure_greeks(legs((-1, False, 105, 0)), 0.0, 100.0, SURFACE, float(YEARS[0]))
    assert (float(inside.delta), float(inside.worth)) == (100.0, -500.0)
    with pytest.raises(ValueError, match="ended before"):
        structure_greeks(made, 0.0, 100.0, SURFACE, YEARS[0] + 0.01)
    none = Legs(np.empty(0), np.empty(0, bool), np.empty(0), np.empty(0))
    shares = structure_greeks(none, 30.0, 100.0, SURFACE)
    assert (float(shares.worth), float(shares.delta), float(shares.gamma)) == (3000.0, 30.0, 0.0)


def test_greeks_of_what_may_be_exercised_early_are_those_of_american_options():
    american = SURFACE._replace(exercise="american")
    # A put far in the money is exercised at once: no day takes or adds anything. One out of the money hardly differs.
    deep, far = legs((1, False, 150, 2)), legs((1, False, 85, 0))
    found = structure_greeks(deep, 0.0, 100.0, american)
    assert float(found.theta) == pytest.approx(0, abs=0.02)
    assert float(structure_greeks(deep, 0.0, 100.0, SURFACE).theta) > 1
    assert float(found.delta) == pytest.approx(-100, abs=0.1)
    assert float(found.worth) == pytest.approx(float(value(deep, 0.0, 100.0, 0.0, american)))
    near = structure_greeks(far, 0.0, 100.0, american)
    assert float(near.delta) == pytest.approx(float(structure_greeks(far, 0.0, 100.0, SURFACE).delta), rel=0.01)


def _pinned(spot: float) -> Surface:
    """The surface whose volatility stays at each strike when the spot moves."""
    shifted = SURFACE.parameters.copy()
    shifted[:, 3] += np.log(100.0 / spot)
    return SURFACE._replace(parameters=shifted)


@pytest.mark.parametrize(
    ("made", "time", "words"),
    [
        (CONDOR._replace(expiry=np.full(4, 0.2)), 0.0, "the surface does not have"),
        (CONDOR, 0.1, "ended before"),
        (CONDOR._replace(quantity=np.zeros(4)), 0.0, "must not be zero"),
    ],
)
def test_what_cannot_be_valued_is_told(made, time, words):
    with pytest.raises(ValueError, match=words):
        value(made, 0.0, 100.0, time, SURFACE)


def with_report(variance: float, at: float) -> Surface:
    return SURFACE._replace(event_variance=variance, event_years=at)


def test_the_variance_of_a_report_comes_on_its_day_and_that_day_is_the_first_that_has_it():
    event, day = 0.001, float(YEARS[0] + YEARS[1]) / 2
    surface = with_report(event, day)
    before, then, after = (float(variance_by(surface, at)) for at in (day - 1e-9, day, day + 1e-9))
    assert then - before == pytest.approx(event, rel=1e-4)
    assert after == pytest.approx(then, rel=1e-6)
    for at, total in zip(YEARS, SURFACE.variance, strict=True):
        assert float(variance_by(surface, float(at))) == pytest.approx(float(total)), "expirations have what they had"


def test_a_report_leaves_an_expiration_a_quarter_of_its_own_variance():
    day = float(YEARS[0]) / 2
    surface = with_report(10.0, day)
    total = float(SURFACE.variance[0])
    assert float(variance_by(surface, day)) - float(variance_by(surface, day - 1e-9)) == pytest.approx(
        0.75 * total, rel=1e-5
    )


def test_variance_without_a_report_never_falls_with_time():
    # Raw SVI's first two parameters scale its variance.
    dipped = SURFACE._replace(parameters=SURFACE.parameters * np.array([[1.0] * 5, [0.2, 0.2, 1, 1, 1], [1.0] * 5]))
    assert dipped.variance[1] < dipped.variance[0], "a later expiration that has less"
    along = np.asarray(variance_by(dipped, np.linspace(0, float(YEARS[2]), 60)))
    assert (np.diff(along) >= -1e-15).all()


def test_carries_between_two_times_join_to_that_of_the_whole():
    leaning = SURFACE._replace(carry=np.array([0.01, 0.03, 0.02]))
    between = later_carry(leaning, 2, float(YEARS[0]))
    assert 0.01 * YEARS[0] + between * (YEARS[2] - YEARS[0]) == pytest.approx(0.02 * YEARS[2])
    assert later_carry(leaning, 1, 0.0) == pytest.approx(0.03)
