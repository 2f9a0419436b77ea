"""European prices against published examples, QuantLib and what must hold for any option."""

import math

import numpy as np
import pytest
import QuantLib as ql
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.pricing import exercised_early, option_price

spots = st.floats(1, 1000)
moneyness = st.floats(-1.2, 1.2)
terms = st.floats(1 / 365, 3)
vols = st.floats(0.03, 2.5)
rates = st.floats(-0.02, 0.12)
yields = st.floats(0, 0.08)


@pytest.mark.parametrize(
    ("spot", "strike", "years", "vol", "rate", "carry", "is_call", "published"),
    [
        # Hull, Options, Futures, and Other Derivatives, example in "Black-Scholes-Merton pricing formulas".
        (42, 40, 0.5, 0.20, 0.10, 0.0, True, 4.76),
        (42, 40, 0.5, 0.20, 0.10, 0.0, False, 0.81),
        # Haug, The Complete Guide to Option Pricing Formulas, Black-Scholes and Merton with a continuous yield.
        (60, 65, 0.25, 0.30, 0.08, 0.0, True, 2.1334),
        (100, 95, 0.5, 0.20, 0.10, 0.05, False, 2.4648),
    ],
)
def test_published_examples(spot, strike, years, vol, rate, carry, is_call, published):
    price = option_price(spot, strike, years, vol, is_call=is_call, rate=rate, dividend_yield=carry)
    digits = len(str(published).split(".")[1])
    assert round(price, digits) == published


@given(spots, moneyness, terms, vols, rates, yields, st.booleans())
def test_agrees_with_quantlib(spot, log_moneyness, years, vol, rate, carry, is_call):
    strike = spot * math.exp(log_moneyness)
    kind = ql.Option.Call if is_call else ql.Option.Put
    forward = spot * math.exp((rate - carry) * years)
    reference = ql.blackFormula(kind, strike, forward, vol * math.sqrt(years), math.exp(-rate * years))
    ours = option_price(spot, strike, years, vol, is_call=is_call, rate=rate, dividend_yield=carry)
    assert ours == pytest.approx(reference, rel=1e-10, abs=1e-12 * spot)


@given(spots, moneyness, terms, vols, rates, yields)
def test_put_call_parity(spot, log_moneyness, years, vol, rate, carry):
    strike = spot * math.exp(log_moneyness)
    call, put = option_price(spot, strike, years, vol, is_call=[True, False], rate=rate, dividend_yield=carry)
    assert call - put == pytest.approx(
        spot * math.exp(-carry * years) - strike * math.exp(-rate * years), abs=1e-11 * spot
    )


@given(spots, moneyness, terms, st.lists(vols, min_size=2, max_size=6), st.booleans())
def test_price_rises_with_volatility_within_its_bounds(spot, log_moneyness, years, levels, is_call):
    strike = spot * math.exp(log_moneyness)
    price = option_price(spot, strike, years, np.sort(levels), is_call=is_call)
    assert np.all(np.diff(price) >= -1e-13 * spot)
    assert np.all(price >= max(spot - strike if is_call else strike - spot, 0) * (1 - 1e-14))
    assert np.all(price <= (spot if is_call else strike))


def test_broadcasts_and_keeps_missing_values_missing():
    price = option_price([[100.0], [np.nan]], [90.0, 110.0, -1.0], 0.5, 0.2, is_call=True)
    assert price.shape == (2, 3)
    assert np.isfinite(price).tolist() == [[True, True, False], [False, False, False]]


def test_without_time_or_volatility_only_intrinsic_value_is_left():
    assert option_price(105.0, 100.0, 0.0, 0.3, is_call=True) == pytest.approx(5.0)
    assert option_price(95.0, 100.0, 1.0, 0.0, is_call=False, rate=0.05) == pytest.approx(100 * math.exp(-0.05) - 95)


def test_another_exercise_style_is_refused_rather_than_priced_as_european():
    with pytest.raises(ValueError, match="must be 'european'"):
        option_price(100, 100, 1, 0.2, is_call=False, exercise="bermudan")


def test_only_options_on_an_index_wait_for_their_day():
    assert exercised_early(["stock", "index", "fund"]).tolist() == [True, False, True]
    assert not exercised_early("index")
    assert exercised_early("stock")
    whole = exercised_early(np.array([["fund"], ["index"]]))
    assert whole.shape == (2, 1), "any shape"
    assert whole.ravel().tolist() == [True, False]
