"""Where a rule of the volatility side turns: thresholds of a chain, floors, windows and what is left out."""

import numpy as np
import pytest

from flinch.core.moves import cycle_outcomes
from flinch.core.pricing import forwards_from_parity, greeks, option_price
from flinch.core.volatility import (
    average_correlation,
    ex_earnings,
    fit_smiles,
    forecast_errors,
    return_correlations,
    smile_vol,
    volatility_cone,
    weighted_vol,
)
from flinch.core.volatility.chain import FLAWS, ChainQuotes, summarise_expiries, typical_width


def chain(strikes=20):
    strike = np.linspace(85, 115, strikes)
    years = np.full(strikes, 0.1)
    sides = []
    for is_call in (True, False):
        price = option_price(100.0, strike, years, 0.3, is_call=is_call, rate=0.0)
        bid, ask = price - 0.02, price + 0.02
        sides += [bid, ask]
    return ChainQuotes(np.zeros(strikes, dtype=np.int64), strike, *sides)


def flaw(quotes):
    one = np.array([0.1])
    found = summarise_expiries(quotes, name=np.zeros(1, dtype=np.int64), spot=np.array([100.0]), years=one, rate=0.0)
    return FLAWS[found.flaw[0]], found


def thin(crossed: int) -> ChainQuotes:
    """Ten strikes out of the money of which five are usable: `crossed` are crossed, the others too wide."""
    part = ChainQuotes(*(side[::2] for side in chain()))
    bad = np.arange(10) % 2 == 0
    wide = np.flatnonzero(bad)[crossed:]
    call_ask, put_ask = part.call_ask.copy(), part.put_ask.copy()
    for ask, bid in ((call_ask, part.call_bid), (put_ask, part.put_bid)):
        ask[bad] = bid[bad] - 0.01
        ask[wide] = bid[wide] + 30
    return part._replace(call_ask=call_ask, put_ask=put_ask)


def test_a_chain_is_crossed_when_more_than_a_tenth_of_its_quotes_are():
    assert flaw(thin(1))[0] == "too few strikes are quoted"
    assert flaw(thin(2))[0] == "quotes are crossed"


def test_a_chain_is_stale_when_more_than_a_fifth_of_its_pairs_break_parity():
    # Every second strike is dearer on both sides, so that the curve misses and parity still holds.
    jagged = chain(strikes=10)
    dearer = (np.arange(10) % 2) * 0.4
    jagged = jagged._replace(
        call_bid=jagged.call_bid + dearer, call_ask=jagged.call_ask + dearer,
        put_bid=jagged.put_bid + dearer, put_ask=jagged.put_ask + dearer,
    )  # fmt: skip

    def left_behind(count: int) -> str:
        moved = (np.arange(10) >= 10 - count) * 3.0
        return flaw(jagged._replace(put_bid=jagged.put_bid + moved, put_ask=jagged.put_ask + moved))[0]

    assert left_behind(2) == "the fitted curve misses the quotes"
    assert left_behind(3) == "calls and puts disagree: quotes look stale"


def test_a_report_may_be_most_of_an_options_variance_and_never_all():
    """One expiration quoted far below its neighbours: of the curve that they share a quarter is left, half its volatility."""
    days = np.array([2, 5, 9, 12, 16, 19, 23, 26, 30, 37, 44, 51, 65, 80, 100, 120, 150, 180, 210, 240, 270, 300])
    reports = (days > 3).astype(np.int64)
    vols = np.sqrt(0.3**2 + 0.2**2 * reports / (days / 365))
    dip = 9
    vols[dip] = 0.61
    found = ex_earnings(days[None] / 365, vols[None], reports[None])
    assert vols[dip] ** 2 < found.move[0] ** 2 / (37 / 365), "the report alone is worth more"
    curve = np.median(found.vols[0])
    assert found.vols[0, dip] == pytest.approx(0.5 * curve, rel=0.08)


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


def test_the_long_mean_of_a_forecast_is_of_the_last_252_sessions():
    variance = np.full((1, 700), 1e-4)
    variance[:, :300] = 9e-4

    def missed_at(session: int) -> float:
        only = np.full(variance.shape, np.nan)
        only[0, session] = 0.2
        return forecast_errors(variance, only, only).long_mean

    assert missed_at(300 + 251) == pytest.approx(0, abs=1e-9)
    assert missed_at(300 + 250) == pytest.approx(np.sqrt(252 * (1e-4 + 8e-4 / 252)) - np.sqrt(252 * 1e-4))


def test_a_correlation_wants_42_sessions_that_both_have():
    rng = np.random.default_rng(2)
    close = 100 * np.exp(np.cumsum(0.01 * rng.normal(size=(2, 80)), axis=1))

    def known(returns: int) -> bool:
        part = close.copy()
        part[1, returns + 1 :] = np.nan
        return bool(np.isfinite(return_correlations(part)[0, 1]))

    assert known(42)
    assert not known(41)
    # With nothing missing at all as well.
    assert np.isnan(return_correlations(close[:, :42])).all()
    assert np.isfinite(return_correlations(close[:, :43])).all()


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
