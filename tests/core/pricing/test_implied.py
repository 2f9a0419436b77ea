"""Implied volatility: round trips over the whole promised range, a reference, and the bounds."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from vollib.black_scholes_merton.implied_volatility import implied_volatility as vollib_implied

from flinch.core.pricing import greeks, implied_vol, option_price


def test_round_trip_within_1e_8_over_the_promised_range():
    rng = np.random.default_rng(11)
    n = 300_000
    x = rng.uniform(-1.5, 1.5, n)
    years = np.exp(rng.uniform(math.log(0.5 / 365), math.log(3), n))
    vol = np.exp(rng.uniform(math.log(0.03), math.log(4), n))
    is_call = rng.random(n) < 0.5
    rate, carry = rng.uniform(-0.02, 0.1, n), rng.uniform(0, 0.06, n)
    spot = 100.0
    forward = spot * np.exp((rate - carry) * years)
    strike = forward * np.exp(-x)
    price = option_price(spot, strike, years, vol, is_call=is_call, rate=rate, dividend_yield=carry)
    intrinsic = np.maximum(np.where(is_call, forward - strike, strike - forward), 0)
    promised = price * np.exp(rate * years) - intrinsic > 1e-9 * forward
    found = implied_vol(price, spot, strike, years, is_call=is_call, rate=rate, dividend_yield=carry)
    # Far in the money a double cannot hold the price finely enough; what its last digits are worth in volatility is allowed.
    vega = 100 * greeks(spot, strike, years, vol, is_call=is_call, rate=rate, dividend_yield=carry).vega
    error = np.abs(found - vol)[promised]
    grain = 4 * np.spacing(np.maximum(price, strike)[promised]) / vega[promised]
    assert promised.sum() > 100_000
    assert np.all(error <= 1e-8 + grain)
    out_of_the_money = (intrinsic == 0) & promised
    assert np.all(np.abs(found - vol)[out_of_the_money] <= 1e-8)


@given(st.floats(-0.8, 0.8), st.floats(5 / 365, 2.5), st.floats(0.08, 1.5), st.booleans())
def test_agrees_with_a_reference_implementation(x, years, vol, is_call):
    strike = 100 * math.exp(x)
    price = option_price(100.0, strike, years, vol, is_call=is_call, rate=0.03, dividend_yield=0.01)
    vega = greeks(100.0, strike, years, vol, is_call=is_call, rate=0.03, dividend_yield=0.01).vega
    if vega < 1e-5:
        return
    reference = vollib_implied(price, 100.0, strike, years, 0.03, 0.01, "c" if is_call else "p")
    ours = implied_vol(price, 100.0, strike, years, is_call=is_call, rate=0.03, dividend_yield=0.01)
    assert ours == pytest.approx(reference, abs=1e-6)


@given(
    st.floats(0.5, 2), st.floats(1 / 365, 3), st.lists(st.floats(0.001, 0.999), min_size=2, max_size=6), st.booleans()
)
def test_rises_with_price(ratio, years, shares, is_call):
    strike = 100.0 * ratio
    low = max(100 - strike, 0) if is_call else max(strike - 100, 0)
    high = 100.0 if is_call else strike
    price = low + (high - low) * np.sort(np.unique(shares))
    vol = implied_vol(price, 100.0, strike, years, is_call=is_call)
    assert np.all(np.isfinite(vol))
    # Two prices that differ in the last digit may be told in the other order there.
    assert np.all(np.diff(vol) >= -1e-11 * vol[1:])


@pytest.mark.parametrize("price", [4.99, 0.0, -1.0, 100.0, 130.0, math.nan, math.inf])
def test_outside_the_no_arbitrage_bounds_there_is_none(price):
    assert math.isnan(implied_vol(price, 100.0, 95.0, 0.5, is_call=True))


def test_a_scalar_gives_a_float_and_an_array_its_shape():
    assert isinstance(implied_vol(5.0, 100, 100, 0.5, is_call=True), float)
    assert implied_vol(np.full((2, 1), 5.0), 100, [[100, 101, 102]], 0.5, is_call=True).shape == (2, 3)
