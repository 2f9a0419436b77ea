"""Greeks against QuantLib's engine and against differences of prices."""

import pytest
import QuantLib as ql
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.pricing import greeks, option_price


def quantlib_greeks(spot, strike, days, vol, is_call, rate, carry):
    today = ql.Date(9, 9, 2026)
    ql.Settings.instance().evaluationDate = today
    count = ql.Actual365Fixed()
    process = ql.BlackScholesMertonProcess(
        ql.QuoteHandle(ql.SimpleQuote(spot)),
        ql.YieldTermStructureHandle(ql.FlatForward(today, carry, count)),
        ql.YieldTermStructureHandle(ql.FlatForward(today, rate, count)),
        ql.BlackVolTermStructureHandle(ql.BlackConstantVol(today, ql.NullCalendar(), vol, count)),
    )
    payoff = ql.PlainVanillaPayoff(ql.Option.Call if is_call else ql.Option.Put, strike)
    option = ql.VanillaOption(payoff, ql.EuropeanExercise(today + days))
    option.setPricingEngine(ql.AnalyticEuropeanEngine(process))
    return option.delta(), option.gamma(), option.theta() / 365, option.vega() / 100, option.rho() / 100


@pytest.mark.parametrize("is_call", [True, False])
@pytest.mark.parametrize(("strike", "days", "vol"), [(100, 30, 0.25), (80, 7, 0.6), (130, 400, 0.18), (99, 2, 0.4)])
def test_agrees_with_quantlib(strike, days, vol, is_call):
    ours = greeks(100.0, strike, days / 365, vol, is_call=is_call, rate=0.04, dividend_yield=0.015)
    assert tuple(ours) == pytest.approx(
        quantlib_greeks(100.0, strike, days, vol, is_call, 0.04, 0.015), rel=1e-7, abs=1e-10
    )


@given(st.floats(80, 125), st.floats(10 / 365, 2), st.floats(0.1, 1.0), st.booleans())
def test_units_are_differences_of_prices(strike, years, vol, is_call):
    def price(spot=100.0, years=years, vol=vol, rate=0.03):
        return option_price(spot, strike, years, vol, is_call=is_call, rate=rate, dividend_yield=0.01)

    ours = greeks(100.0, strike, years, vol, is_call=is_call, rate=0.03, dividend_yield=0.01)
    h = 0.01
    assert ours.delta == pytest.approx((price(100 + h) - price(100 - h)) / (2 * h), abs=1e-5)
    assert ours.gamma == pytest.approx((price(100 + h) - 2 * price() + price(100 - h)) / h**2, abs=1e-4)
    assert ours.vega == pytest.approx((price(vol=vol + 1e-4) - price(vol=vol - 1e-4)) / 2e-4 * 0.01, abs=1e-5)
    assert ours.rho == pytest.approx((price(rate=0.0301) - price(rate=0.0299)) / 2e-4 * 0.01, abs=1e-5)
    day = 1e-3 / 365
    assert ours.theta == pytest.approx((price(years=years - day) - price(years=years + day)) / 2e-3, abs=1e-5)
