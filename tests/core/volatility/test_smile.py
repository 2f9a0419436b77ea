"""From quotes to at-the-money volatility, on chains whose volatility is known."""

import numpy as np
import pytest

from flinch.core.pricing import option_price
from flinch.core.volatility import fit_smiles
from flinch.core.volatility.chain import ChainQuotes, summarise_expiries

RATE = 0.03
ONE = np.zeros(1, dtype=int)


def quotes(spot, years, strikes, vol_at, *, half=0.01, carry=0.0, group=0):
    forward = spot * np.exp((RATE - carry) * years)
    vol = vol_at(np.log(strikes / forward))
    call, put = (
        option_price(spot, strikes, years, vol, is_call=side, rate=RATE, dividend_yield=carry) for side in (True, False)
    )
    return ChainQuotes(np.full(strikes.size, group), strikes, call - half, call + half, put - half, put + half)


def test_the_straddle_stands_at_the_strike_nearest_the_forward():
    strikes = np.array([90.0, 95, 100, 105, 110])
    chain = quotes(101.0, 0.1, strikes, lambda k: np.full(k.shape, 0.3))
    found = summarise_expiries(chain, name=ONE, spot=np.array([101.0]), years=np.array([0.1]), rate=RATE)
    both = option_price(101.0, 100.0, 0.1, 0.3, is_call=[True, False], rate=RATE).sum()
    assert found.straddle_strike[0] == 100
    assert found.straddle[0] == pytest.approx(both, abs=1e-9)


def test_a_straddle_beyond_the_strikes_around_the_forward_is_none():
    strikes = np.array([90.0, 95, 100, 105, 110])
    chain = quotes(101.0, 0.1, strikes, lambda k: np.full(k.shape, 0.3))

    def without(*gone):
        wide = np.isin(strikes, gone)
        return chain._replace(call_ask=np.where(wide, chain.call_bid + 9, chain.call_ask))

    def summary(quoted):
        return summarise_expiries(quoted, name=ONE, spot=np.array([101.0]), years=np.array([0.1]), rate=RATE)

    assert summary(without(100.0)).straddle_strike[0] == 105, "the strike on the other side of the forward"
    assert np.isnan(summary(without(100.0, 105.0)).straddle[0]), "95 and 110 are quoted, but not at the money"


def test_wide_quotes_take_no_part_and_an_expiry_without_any_has_no_volatility():
    strikes = np.array([90.0, 95, 100, 105, 110])
    good = quotes(100.0, 0.1, strikes, lambda k: np.full(k.shape, 0.3))
    wide = quotes(100.0, 0.1, strikes, lambda k: np.full(k.shape, 0.3), half=6.0, group=1)
    both = ChainQuotes(*(np.concatenate([a, b]) for a, b in zip(good, wide, strict=True)))
    found = summarise_expiries(
        both, name=np.zeros(2, dtype=int), spot=np.full(2, 100.0), years=np.full(2, 0.1), rate=RATE
    )
    assert found.vol[0] == pytest.approx(0.3, abs=1e-6)
    assert np.isnan(found.vol[1])
    assert np.isnan(found.straddle[1])
    assert found.forward_from_parity.tolist() == [True, False]


@pytest.mark.parametrize(("strikes", "known"), [(1, True), (2, True), (3, True), (4, True), (0, False)])
def test_few_strikes_are_used_as_far_as_they_reach(strikes, known):
    k = np.array([0.01, -0.02, 0.03, -0.04])[:strikes]
    fit = fit_smiles(
        np.zeros(strikes, dtype=int), k, np.full(strikes, 0.4), np.full(strikes, 0.02), name=ONE, years=np.array([0.1])
    )
    assert fit.strikes[0] == strikes
    assert np.isfinite(fit.vol[0]) == known
    if known:
        assert fit.vol[0] == pytest.approx(0.4)


def test_a_single_strike_far_from_the_forward_tells_nothing():
    fit = fit_smiles(np.array([0]), np.array([0.2]), np.array([0.4]), np.array([0.02]), name=ONE, years=np.array([0.1]))
    assert np.isnan(fit.vol[0])
