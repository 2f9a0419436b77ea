"""Where a rule of the volatility side turns: thresholds of a chain, floors, windows and what is left out."""

import numpy as np
import pytest

from flinch.core.moves import cycle_outcomes
from flinch.core.pricing import forwards_from_parity, greeks, option_price
from flinch.core.volatility import (
    average_correlation,
    fit_smiles,
    forecast_vol,
    return_correlations,
    smile_vol,
    volatility_cone,
    weighted_vol,
)
from flinch.core.volatility.chain import FLAWS, ChainQuotes, summarise_expiries, typical_width


def chain(crossed=0, stale=0, strikes=20):
    strike = np.linspace(85, 115, strikes)
    years = np.full(strikes, 0.1)
    sides = []
    for is_call in (True, False):
        price = option_price(100.0, strike, years, 0.3, is_call=is_call, rate=0.0)
        bid, ask = price - 0.02, price + 0.02
        ask = np.where(np.arange(strikes) < crossed, bid - 0.01, ask)
        if not is_call:
            moved = (np.arange(strikes) >= strikes - stale) * 2.0
            bid, ask = bid + moved, ask + moved
        sides += [bid, ask]
    return ChainQuotes(np.zeros(strikes, dtype=np.int64), strike, *sides)


def flaw(quotes):
    one = np.array([0.1])
    found = summarise_expiries(quotes, name=np.zeros(1, dtype=np.int64), spot=np.array([100.0]), years=one, rate=0.0)
    return FLAWS[found.flaw[0]], found


def test_a_chain_is_crossed_when_more_than_a_tenth_of_its_quotes_are():
    # With a good fit nothing is said; what is crossed takes part in no fit, so the rest must be too few or poor.
    few = ChainQuotes(*(part[:10] for part in chain()))
    two = few._replace(call_ask=np.where(np.arange(10) < 2, few.call_bid - 0.01, few.call_ask))
    all_wide = {"put_ask": few.put_ask + 9.0, "put_bid": few.put_bid}
    assert flaw(few._replace(**all_wide))[0] != "quotes are crossed"
    crossed = two._replace(put_ask=np.where(np.arange(10) < 2, few.put_bid - 0.01, few.put_ask), call_bid=two.call_bid)
    spoiled = crossed._replace(
        call_bid=np.where(np.arange(10) > 4, np.nan, crossed.call_bid),
        call_ask=np.where(np.arange(10) > 4, np.nan, crossed.call_ask),
        put_bid=np.where(np.arange(10) > 4, np.nan, crossed.put_bid),
        put_ask=np.where(np.arange(10) > 4, np.nan, crossed.put_ask),
    )
    assert flaw(spoiled)[0] == "quotes are crossed"


def test_a_thin_expiration_is_read_up_to_one_and_a_half_deviations_and_no_further():
    """A name with one full expiration and one of two strikes at so many deviations."""
    years = np.array([0.1, 0.3])
    full = np.linspace(-0.3, 0.3, 13)

    def read(at: float) -> float:
        deviation = 0.3 * np.sqrt(0.1)
        k = np.concatenate([np.array([at, at + 0.1]) * deviation, full])
        group = np.array([0, 0] + [1] * 13)
        found = fit_smiles(group, k, np.full(15, 0.3), np.full(15, 0.01), name=np.zeros(2, dtype=np.int64), years=years)
        return float(found.vol[0])

    assert read(1.4) == pytest.approx(0.3, abs=0.02)
    assert np.isnan(read(1.6))


def test_a_later_expiration_is_lifted_to_the_earlier_one_and_not_beyond():
    """Quotes that cross in time: total variance of the later comes up to that of the earlier where both are quoted."""
    years = np.array([0.1, 0.2])
    k = np.tile(np.linspace(-0.2, 0.2, 11), 2)
    group = np.repeat([0, 1], 11)
    vol = np.repeat([0.5, 0.3], 11)
    found = fit_smiles(group, k, vol, np.full(22, 0.01), name=np.zeros(2, dtype=np.int64), years=years)
    at = np.linspace(-0.2, 0.2, 41)
    early, late = (
        smile_vol(np.tile(found.parameters[e], (41, 1)), np.full(41, years[e]), at) ** 2 * years[e] for e in (0, 1)
    )
    assert (late >= early - 1e-7).all()
    assert late.max() < early.max() * 1.35


def test_the_forecasts_long_mean_is_of_the_last_252_sessions():
    rng = np.random.default_rng(1)
    variance = 1e-4 * rng.chisquare(3, (30, 520)) / 3
    old = variance.copy()
    old[:, :200] *= 50
    # 300 sessions later what came before the last 252 has no part in the mean, and little in coefficients known by then.
    plain, changed = forecast_vol(variance)[:, -1], forecast_vol(old)[:, -1]
    assert changed == pytest.approx(plain, rel=0.35)
    assert np.median(changed / plain) == pytest.approx(1.0, abs=0.1)


def test_a_correlation_wants_42_sessions_that_both_have():
    rng = np.random.default_rng(2)
    close = 100 * np.exp(np.cumsum(0.01 * rng.normal(size=(2, 80)), axis=1))

    def known(returns: int) -> bool:
        part = close.copy()
        part[1, returns + 1 :] = np.nan
        return bool(np.isfinite(return_correlations(part)[0, 1]))

    assert known(42)
    assert not known(41)


def test_a_tenth_of_a_funds_weight_may_be_missing_and_no_more():
    vols = np.array([[0.3], [0.4], [np.nan]])
    fund = np.array([0.25])
    enough, short = np.array([45.0, 45.0, 10.0]), np.array([45.0, 44.0, 11.0])
    assert np.isfinite(average_correlation(fund, vols, enough)[0])
    assert np.isnan(average_correlation(fund, vols, short)[0])
    assert weighted_vol(vols, enough)[0] == pytest.approx(0.35)
    assert np.isnan(weighted_vol(vols, short)[0])


def test_today_is_part_of_the_cone():
    rng = np.random.default_rng(3)
    close = 100 * np.exp(np.cumsum(0.01 * rng.normal(size=60)))
    close[-1] *= 1.5
    bars = (close, close * 1.001, close * 0.999, close)
    cone = volatility_cone(*bars, estimator="close_to_close")
    assert cone.last[0] == cone.quantiles[0, -1], "the highest is today's"
    assert cone.windows[0] == 60 - 10


def test_a_cycle_that_ends_on_its_edge_ended_inside():
    close = np.array([100.0, 104.0, 110.0])
    anchor, half = np.full(3, 100.0), np.full(3, 10.0)
    found = cycle_outcomes(close, close, close, anchor, half, np.array([0]), np.array([2]))
    assert found.position[0] == 1
    assert found.inside[0]
    beyond = cycle_outcomes(close, close, close + 0.01, anchor, half, np.array([0]), np.array([2]))
    assert not beyond.inside[0]


def test_a_forward_on_a_strike_is_that_strike():
    strike = np.array([95.0, 100.0, 105.0])
    call, put = np.array([6.0, 3.0, 1.0]), np.array([1.0, 3.0, 6.0])
    group, spot = np.zeros(3, dtype=np.int64), np.array([100.0])
    found = forwards_from_parity(group, strike, call, put, spot=spot, years=np.array([0.5]), rate=0.0)
    assert found.forward[0] == 100.0
    assert found.from_parity[0]


def test_the_typical_width_counts_expirations_up_to_62_days():
    quotes = ChainQuotes(
        np.array([0, 1, 2]), np.full(3, 100.0), np.array([1.0, 1.0, 1.0]), np.array([1.2, 1.4, 1.8]),
        np.array([1.0, 1.0, 1.0]), np.array([1.2, 1.4, 1.8]),
    )  # fmt: skip
    width = 200 * (np.array([1.2, 1.4, 1.8]) - 1) / (np.array([1.2, 1.4, 1.8]) + 1)

    def of(days) -> float:
        name, spot = np.zeros(3, dtype=np.int64), np.full(3, 100.0)
        return float(typical_width(quotes, name, spot=spot, years=np.array(days) / 365, count=1)[0])

    assert of([30, 62, 63]) == pytest.approx(np.median(width[:2]))
    assert of([5, 6, 62]) == pytest.approx(np.median(width[1:]))
    assert of([1, 2, 100]) == pytest.approx(np.median(width)), "none is so near or far: all count"


@pytest.mark.parametrize("exercise", ["european", "american"])
@pytest.mark.parametrize("is_call", [True, False])
def test_theta_is_what_a_day_takes_away(exercise, is_call):
    at = {"is_call": is_call, "rate": 0.02, "dividend_yield": 0.01, "exercise": exercise}
    later, now = (option_price(100.0, 103.0, days / 365, 0.4, **at) for days in (89, 90))
    theta = greeks(100.0, 103.0, 90 / 365, 0.4, **at).theta
    assert theta < 0
    assert theta == pytest.approx(later - now, rel=0.01)
