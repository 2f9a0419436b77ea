"""The chance that options give to a touch: against QuantLib without a smile, against drawn paths with one, and its form."""

import math

import numpy as np
import pytest
import QuantLib as ql
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.stats import norm

from flinch.core.evidence import SpanSmile, flat_smile, span_smiles, touch_chance
from flinch.core.pricing import implied_vol
from flinch.core.volatility import fit_smiles


def one(parameters, share=1.0) -> SpanSmile:
    """A span that is one expiration's."""
    p = np.atleast_2d(np.asarray(parameters, dtype=float))
    return SpanSmile(p, p, np.full(len(p), share), np.zeros(len(p)))


@given(st.floats(0.3, 3.0), st.floats(0.05, 1.5), st.floats(0.02, 2.0))
def test_without_a_smile_it_is_that_of_a_driftless_price(target, vol, years):
    assume(abs(target - 1) >= 1e-3)
    today = ql.Date(1, 1, 2026)
    ql.Settings.instance().evaluationDate = today
    days = max(1, round(365 * years))
    count = ql.Actual365Fixed()
    process = ql.BlackScholesProcess(
        ql.QuoteHandle(ql.SimpleQuote(1.0)),
        ql.YieldTermStructureHandle(ql.FlatForward(today, 0.0, count)),
        ql.BlackVolTermStructureHandle(ql.BlackConstantVol(today, ql.NullCalendar(), vol, count)),
    )
    # One unit at the end if the level was touched on the way.
    kind = ql.Option.Call if target > 1 else ql.Option.Put
    option = ql.VanillaOption(ql.CashOrNothingPayoff(kind, target, 1.0), ql.AmericanExercise(today, today + days, True))
    option.setPricingEngine(ql.AnalyticDigitalAmericanEngine(process))
    found = touch_chance(np.array([target]), flat_smile(np.array([vol**2 * days / 365])))
    # Its own value at the price is one, so nothing is changed by dividing.
    assert found[0] == pytest.approx(option.NPV(), abs=1e-9)


SKEWS = st.tuples(
    st.floats(0.002, 0.25), st.floats(0.02, 0.5), st.floats(-0.85, 0.6), st.floats(-0.3, 0.3), st.floats(0.05, 0.8)
)


def least_density(p) -> float:
    """Durrleman's condition between six deviations, by numbers: below zero there are butterflies, at zero no price is expected
    somewhere between others."""
    a, b, rho, m, sigma = p
    deviation = math.sqrt(max(a + b * (math.sqrt(m * m + sigma * sigma) - rho * m), 0))
    if not deviation:
        return -1.0
    k = deviation * np.linspace(-6, 6, 2001)
    root = np.sqrt((k - m) ** 2 + sigma**2)
    w = a + b * (rho * (k - m) + root)
    if (w <= 0).any():
        return -1.0
    first, second = b * (rho + (k - m) / root), b * sigma**2 / root**3
    density = (1 - k * first / (2 * w)) ** 2 - first**2 / 4 * (1 / w + 0.25) + second / 2
    return float(density.min())


@settings(max_examples=300)
@given(SKEWS)
def test_it_falls_with_distance_on_either_side_and_is_one_at_the_price(skew):
    density = least_density(skew)
    assume(density >= 0)
    a, b, rho, m, sigma = skew
    deviation = math.sqrt(a + b * (math.sqrt(m * m + sigma * sigma) - rho * m))
    away = np.linspace(0, 4, 161)
    for side in (1, -1):
        chance = touch_chance(np.exp(side * deviation * away), one(skew))
        assert chance[0] == pytest.approx(1.0)
        assert (chance >= 0).all()
        assert chance[-1] < 0.75
        # A fall's reflection gives back what lies below in parts of the level: it falls where some is expected at each price.
        if side > 0 or density >= 0.3:
            assert (np.diff(chance) <= 1e-12).all()


def test_the_slope_of_the_smile_is_in_the_chance_of_ending_beyond():
    """2 D + C / K and 2 D - P / K of Black prices whose volatility moves with the strike, D by a difference of prices."""
    a, b, rho, m, sigma = skew = (0.004, 0.06, -0.5, 0.02, 0.2)

    def price(strike: float, *, call: bool) -> float:
        k = math.log(strike)
        s = math.sqrt(a + b * (rho * (k - m) + math.hypot(k - m, sigma)))
        d1 = -k / s + s / 2
        value = norm.cdf(d1) - strike * norm.cdf(d1 - s)
        return value if call else value - 1 + strike

    def reflected(strike: float, *, call: bool) -> float:
        up, down = (price(strike + step, call=call) for step in (1e-5, -1e-5))
        beyond = abs(up - down) / 2e-5
        return 2 * beyond + (1 if call else -1) * price(strike, call=call) / strike

    for strike, call in ((1.08, True), (1.3, True), (0.9, False), (0.75, False)):
        wanted = reflected(strike, call=call) / reflected(1.0, call=call)
        assert touch_chance(np.array([strike]), one(skew))[0] == pytest.approx(wanted, abs=1e-6)


@pytest.mark.parametrize(("elasticity", "rises", "falls"), [(-2.0, 0.02, 0.02), (-5.0, 0.05, 0.02)])
def test_drawn_paths_of_a_skewed_local_volatility_touch_nearly_as_often(elasticity, rises, falls):
    rng = np.random.default_rng(7)
    vol, years, steps, paths = 0.3, 0.25, 1500, 40_000
    # The local variance has that elasticity in the price. Half of the paths move against the other half.
    price = np.ones(paths)
    highest, lowest = price.copy(), price.copy()
    size = math.sqrt(years / steps)
    for _ in range(steps):
        z = rng.normal(size=paths // 2)
        local = vol * np.clip(price, 0.4, 3.0) ** (elasticity / 2)
        price = np.maximum(price * (1 + np.clip(local, 0, 3) * size * np.concatenate([z, -z])), 1e-3)
        np.maximum(highest, price, out=highest)
        np.minimum(lowest, price, out=lowest)
    deviation = vol * math.sqrt(years)
    k = deviation * np.linspace(-2.5, 2.5, 31)
    strikes = np.exp(k)
    values = [np.maximum(price - x, 0).mean() if x >= 1 else np.maximum(x - price, 0).mean() for x in strikes]
    vols = implied_vol(np.array(values), 1.0, strikes, years, is_call=strikes >= 1)
    fit = fit_smiles(
        np.zeros(k.size, dtype=np.int64),
        k,
        vols,
        np.full(k.size, 0.01),
        name=np.zeros(1, np.int64),
        years=np.array([years]),
    )
    # What walks in steps touches a level as a walk without steps does one a little farther (Broadie, Glasserman & Kou 1997).
    beyond = 0.5826 * deviation / math.sqrt(steps)
    for away in (0.5, 1.0, 1.5, 2.0):
        for side, share, bound in ((1, highest >= math.exp(away * deviation - beyond), rises),
                                   (-1, lowest <= math.exp(-away * deviation + beyond), falls)):  # fmt: skip
            told = touch_chance(np.array([math.exp(side * away * deviation)]), one(fit.parameters[0]))[0]
            assert share.mean() == pytest.approx(told, abs=bound), (elasticity, side * away)


def test_a_span_between_two_expirations_has_its_share_of_their_variance_at_each_strike():
    owner = np.array([3, 3, 3, 8])
    years = np.array([0.1, 0.2, 0.4, 0.3])
    surface = np.array([[0.01, 0.02, -0.3, 0, 0.1], [np.nan] * 5, [0.05, 0.06, -0.4, 0.05, 0.2], [0.02, 0, 0, 0, 1]])
    wanted, span = np.array([3, 3, 3, 8, 5, 8]), np.array([0.3, 0.05, 0.8, 0.3, 0.3, 0.0])
    smile = span_smiles(owner, years, surface, wanted, span)
    level = np.array([1.1, 0.9, 1.2, 0.8, 1.1, 1.1])

    def variance(place: int, k: float) -> float:
        a, b, rho, m, sigma = surface[place]
        return a + b * (rho * (k - m) + math.hypot(k - m, sigma))

    # A third of the way from a tenth to four tenths is two thirds; the one in between could not be read.
    assert smile.near_share[0] == pytest.approx(1 / 3)
    assert smile.far_share[0] == pytest.approx(2 / 3)
    assert (smile.near_share[1], smile.near_share[2]) == pytest.approx((0.5, 2.0)), "level volatility beyond the ends"
    assert smile.far_share[1:4].tolist() == [0, 0, 0]
    chance = touch_chance(level, smile)
    flat = touch_chance(level[3:4], flat_smile(np.array([0.02])))
    assert chance[3] == pytest.approx(flat[0])
    assert np.isnan(chance[4:]).all(), "no such name, no time"
    halfway = [variance(0, 0.1) / 3 + 2 * variance(2, 0.1) / 3]
    near, far, shares = smile.near[0], smile.far[0], (smile.near_share[0], smile.far_share[0])
    total = sum(
        share * (p[0] + p[1] * (p[2] * (0.1 - p[3]) + math.hypot(0.1 - p[3], p[4])))
        for share, p in zip(shares, (near, far), strict=True)
    )
    assert total == pytest.approx(halfway[0])


def test_what_cannot_be_priced_is_missing():
    target = np.array([np.nan, 1.1, 1.1, 0.0])
    variance = np.array([0.04, np.nan, 0.0, 0.04])
    assert np.isnan(touch_chance(target, flat_smile(variance))).all()
    assert touch_chance(np.array([1.0]), flat_smile(np.array([0.04])))[0] == pytest.approx(1.0)
    none = span_smiles(np.empty(0, np.int64), np.empty(0), np.empty((0, 5)), np.array([1]), np.array([0.1]))
    assert np.isnan(touch_chance(np.array([1.1]), none)).all()
