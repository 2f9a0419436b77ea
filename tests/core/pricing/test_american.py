"""American options against QuantLib's high-precision engine, and what must hold for any of them."""

import numpy as np
import pytest
import QuantLib as ql
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.pricing import early_exercise_value, greeks, implied_vol, option_price

RATES = st.floats(0.001, 0.12)
YIELDS = st.sampled_from([0.0, 0.01, 0.04, 0.09])


def by_quantlib(spot, strike, days, vol, *, is_call, rate, carry):
    today = ql.Date(9, 9, 2026)
    ql.Settings.instance().evaluationDate = today
    count = ql.Actual365Fixed()
    process = ql.BlackScholesMertonProcess(
        ql.QuoteHandle(ql.SimpleQuote(float(spot))),
        ql.YieldTermStructureHandle(ql.FlatForward(today, float(carry), count)),
        ql.YieldTermStructureHandle(ql.FlatForward(today, float(rate), count)),
        ql.BlackVolTermStructureHandle(ql.BlackConstantVol(today, ql.NullCalendar(), float(vol), count)),
    )
    payoff = ql.PlainVanillaPayoff(ql.Option.Call if is_call else ql.Option.Put, float(strike))
    option = ql.VanillaOption(payoff, ql.AmericanExercise(today, today + int(days)))
    option.setPricingEngine(ql.QdFpAmericanEngine(process, ql.QdFpAmericanEngine.highPrecisionScheme()))
    return option.NPV()


@pytest.fixture(scope="module")
def drawn():
    rng = np.random.default_rng(11)
    n = 400
    return {
        "strike": 100 * np.exp(rng.uniform(-1.5, 1.5, n)),
        "days": rng.integers(1, 1096, n),
        "vol": np.exp(rng.uniform(np.log(0.03), np.log(4.0), n)),
        "is_call": rng.random(n) < 0.5,
        "rate": rng.choice([0.0, 0.01, 0.03, 0.05, 0.1], n),
        "carry": rng.choice([0.0, 0.02, 0.03, 0.06, 0.1], n),
    }


def ours(drawn, spot=100.0, **changed):
    d = drawn | changed
    return option_price(
        spot, d["strike"], d["days"] / 365, d["vol"], is_call=d["is_call"], rate=d["rate"], dividend_yield=d["carry"],
        exercise="american",
    )  # fmt: skip


def test_prices_are_within_a_fifth_of_a_cent_of_the_high_precision_engine(drawn):
    expected = [
        by_quantlib(100, k, days, vol, is_call=c, rate=r, carry=q)
        for k, days, vol, c, r, q in zip(*(drawn[key] for key in drawn), strict=True)
    ]
    assert np.abs(ours(drawn) - expected).max() < 0.002


def test_half_a_day_before_expiry_as_well():
    strikes = np.array([90.0, 99.5, 100.0, 100.5, 110.0])
    found = option_price(100, strikes, 0.5 / 365, 0.25, is_call=False, rate=0.05, exercise="american")
    european = option_price(100, strikes, 0.5 / 365, 0.25, is_call=False, rate=0.05)
    assert (found >= european).all()
    assert (found <= european + 0.01).all()
    assert found[-1] == 10.0


@given(
    strike=st.floats(25, 400), years=st.floats(0.002, 3), vol=st.floats(0.05, 3), rate=RATES, carry=YIELDS,
    is_call=st.booleans(),
)  # fmt: skip
def test_never_below_the_european_price_nor_below_exercise_now(strike, years, vol, rate, carry, is_call):
    both = {"is_call": is_call, "rate": rate, "dividend_yield": carry}
    american = option_price(100, strike, years, vol, **both, exercise="american")
    assert american >= option_price(100, strike, years, vol, **both) - 1e-9
    assert american >= max((100 - strike) if is_call else (strike - 100), 0)
    assert american <= (100 if is_call else strike)


@given(strike=st.floats(30, 300), years=st.floats(0.01, 3), vol=st.floats(0.05, 2), rate=RATES)
def test_a_call_without_a_yield_is_never_exercised_early(strike, years, vol, rate):
    american = option_price(100, strike, years, vol, is_call=True, rate=rate, exercise="american")
    assert american == pytest.approx(option_price(100, strike, years, vol, is_call=True, rate=rate), abs=1e-9)


@given(strike=st.floats(60, 160), years=st.floats(0.02, 2), vol=st.floats(0.1, 1.5), rate=RATES, carry=YIELDS)
def test_the_implied_volatility_gives_the_price_back(strike, years, vol, rate, carry):
    kind = {"is_call": strike > 100, "rate": rate, "dividend_yield": carry, "exercise": "american"}
    price = option_price(100, strike, years, vol, **kind)
    if price < 1e-4:
        return
    found = implied_vol(price, 100, strike, years, **kind)
    assert option_price(100, strike, years, found, **kind) == pytest.approx(price, abs=1e-6)


def test_where_the_european_vega_misleads_a_volatility_is_found_all_the_same():
    """Long puts under high rates: most of their price is early exercise."""
    strike, years = (
        np.array([92.194, 93.198, 86.782, 85.232, 96.554]),
        np.array([1.8214, 1.9739, 1.8068, 1.9055, 1.6515]),
    )
    vol, rate = np.array([0.1111, 0.1198, 0.1017, 0.1043, 0.1086]), np.array([0.117, 0.1152, 0.1034, 0.1101, 0.1149])
    kind = {"is_call": False, "rate": rate, "dividend_yield": [0.01, 0.0, 0.0, 0.0, 0.0], "exercise": "american"}
    price = option_price(100, strike, years, vol, **kind)
    assert implied_vol(price, 100, strike, years, **kind) == pytest.approx(vol, abs=1e-6)


def test_a_price_at_or_below_exercise_has_no_implied_volatility():
    kind = {"is_call": False, "rate": 0.05, "exercise": "american"}
    found = implied_vol([30.0, 29.0, 130.0, np.nan, 31.0], 100, 130, 0.5, **kind)
    assert np.isnan(found[:4]).all()
    assert np.isfinite(found[4])


def test_greeks_are_the_slopes_of_the_reference_prices():
    at = {"strike": 105.0, "days": 120, "vol": 0.32, "is_call": False, "rate": 0.05, "carry": 0.01}

    def reference(spot=100.0, **changed):
        d = at | changed
        k, days, vol = d["strike"], d["days"], d["vol"]
        return by_quantlib(spot, k, days, vol, is_call=d["is_call"], rate=d["rate"], carry=d["carry"])

    found = greeks(100, 105, 120 / 365, 0.32, is_call=False, rate=0.05, dividend_yield=0.01, exercise="american")
    assert found.delta == pytest.approx((reference(100.5) - reference(99.5)) / 1, abs=2e-4)
    assert found.gamma == pytest.approx(reference(101) - 2 * reference() + reference(99), abs=2e-4)
    assert found.vega == pytest.approx((reference(vol=0.33) - reference(vol=0.31)) / 2, abs=2e-4)
    assert found.rho == pytest.approx((reference(rate=0.06) - reference(rate=0.04)) / 2, abs=1e-3)
    assert found.theta == pytest.approx((reference(days=119) - reference(days=121)) / 2, abs=2e-4)


def test_where_exercise_is_due_the_greeks_are_those_of_the_stock():
    found = greeks([50.0, 100.0], 100, 0.25, 0.2, is_call=[False, True], rate=0.06, exercise="american")
    assert [float(value[0]) for value in found] == [-1, 0, 0, 0, 0]
    plain = greeks(100, 100, 0.25, 0.2, is_call=True, rate=0.06)
    assert [float(value[1]) for value in found] == pytest.approx([float(v) for v in plain], abs=2e-4)


@pytest.mark.parametrize("is_call", [False, True])
def test_where_two_boundaries_would_be_needed_no_price_is_told(is_call):
    """Money that costs to keep, and a stock that costs less than that: exercise pays between two prices."""
    low, lower = -0.01, -0.03
    rate, carry = (lower, low) if is_call else (low, lower)
    kind = {"is_call": is_call, "rate": rate, "dividend_yield": carry, "exercise": "american"}
    assert np.isnan(option_price(100, 100, 0.5, 0.3, **kind))
    assert np.isnan(implied_vol(9.0, 100, 100, 0.5, **kind))
    assert np.isnan(early_exercise_value(100, 100, 0.5, 0.3, is_call=is_call, rate=rate, dividend_yield=carry))


@pytest.mark.parametrize(("rate", "carry"), [(-0.03, -0.01), (-0.02, -0.02), (0.0, 0.0), (0.0, 0.02)])
def test_a_put_is_kept_to_the_end_when_money_earns_nothing(rate, carry):
    kind = {"is_call": False, "rate": rate, "dividend_yield": carry}
    found = option_price(100, 110, 0.5, 0.3, **kind, exercise="american")
    # Its price may not lie below exercise, whatever the end is worth.
    assert found == pytest.approx(max(option_price(100, 110, 0.5, 0.3, **kind), 10))
    assert early_exercise_value(100, 110, 0.5, 0.3, **kind) == 0
