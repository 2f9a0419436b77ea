"""Gamma exposure: the worked example of the docs, sign rules, multipliers, and what cannot be read."""

import re
from pathlib import Path
from statistics import NormalDist

import numpy as np
import pytest
import QuantLib as ql
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.gamma import SIGN_RULES, contract_gamma, dealer_side, exposure_size, gamma_exposure
from flinch.core.pricing import greeks

DOCS = Path(__file__).resolve().parents[3] / "docs/positioning.md"
STRIKES = np.array([95.0, 100.0, 105.0])
CALLS, PUTS = np.array([500.0, 1000.0, 2000.0]), np.array([1500.0, 1000.0, 300.0])
YEARS, VOL = 30 / 365, 0.2


def both_sides():
    """The example's six contracts: strikes as calls, then as puts."""
    gamma = contract_gamma(100.0, np.tile(STRIKES, 2), YEARS, VOL)
    return gamma, np.concatenate([CALLS, PUTS]), np.repeat([True, False], 3)


def worked_rows() -> list[list[float]]:
    """The numbers of the table in the docs."""
    rows = [line for line in DOCS.read_text().splitlines() if re.match(r"\| \d+ \|", line)]
    return [[float(cell.replace("−", "-").replace(",", "")) for cell in row.strip("| ").split(" | ")] for row in rows]


def test_the_three_strikes_worked_by_hand_in_the_docs():
    gamma, interest, is_call = both_sides()
    found = gamma_exposure(gamma, interest, spot=100.0, is_call=is_call, group=np.tile(np.arange(3), 2), groups=3)
    worked = np.array(worked_rows())
    assert worked[:, 0].tolist() == STRIKES.tolist()
    np.testing.assert_allclose(gamma[:3], worked[:, 2], atol=5e-6)
    for column, part in ((5, found.call), (6, found.put), (7, found.net)):
        np.testing.assert_allclose(part, worked[:, column], atol=0.5)
    whole = gamma_exposure(gamma, interest, spot=100.0, is_call=is_call)
    text = DOCS.read_text()
    for value in (whole.call[0], whole.put[0], whole.net[0], whole.gross[0]):
        assert f"{value:,.0f}".replace("-", "−") in text


def test_the_middle_strike_by_the_normal_density():
    d1 = 0.5 * VOL * np.sqrt(YEARS)
    density = NormalDist().pdf(d1) / (100 * VOL * np.sqrt(YEARS))
    found = gamma_exposure(np.array([density]), np.array([1000.0]), spot=100.0, is_call=np.array([True]))
    assert found.net[0] == pytest.approx(density * 1000 * 100 * 100**2 * 0.01)


@pytest.mark.parametrize(("strike", "days", "vol"), [(100, 30, 0.25), (80, 7, 0.6), (130, 400, 0.18), (99, 2, 0.4)])
def test_exposure_with_the_gamma_of_quantlib(strike, days, vol):
    today = ql.Date(9, 9, 2026)
    ql.Settings.instance().evaluationDate = today
    count = ql.Actual365Fixed()
    process = ql.BlackScholesMertonProcess(
        ql.QuoteHandle(ql.SimpleQuote(100.0)),
        ql.YieldTermStructureHandle(ql.FlatForward(today, 0.015, count)),
        ql.YieldTermStructureHandle(ql.FlatForward(today, 0.04, count)),
        ql.BlackVolTermStructureHandle(ql.BlackConstantVol(today, ql.NullCalendar(), vol, count)),
    )
    option = ql.VanillaOption(ql.PlainVanillaPayoff(ql.Option.Put, strike), ql.EuropeanExercise(today + days))
    option.setPricingEngine(ql.AnalyticEuropeanEngine(process))
    gamma = contract_gamma(np.array([100.0]), strike, days / 365, vol, rate=0.04, dividend_yield=0.015)
    found = gamma_exposure(gamma, np.array([250.0]), spot=100.0, is_call=np.array([False]))
    # A move of one percent changes the delta of 250 contracts by this many dollars of stock.
    assert found.put[0] == pytest.approx(-option.gamma() * 1.0 * 250 * 100 * 100.0, rel=1e-7)


def test_gamma_alone_is_that_of_the_greeks():
    rng = np.random.default_rng(5)
    at = (100.0, rng.uniform(50, 200, 300), rng.uniform(0.002, 3, 300), rng.uniform(0.05, 2, 300))
    for is_call in (True, False):
        whole = greeks(*at, is_call=is_call, rate=0.03, dividend_yield=0.02)
        np.testing.assert_allclose(contract_gamma(*at, rate=0.03, dividend_yield=0.02), whole.gamma, rtol=1e-12)


@pytest.mark.parametrize(
    ("rule", "net"), [("calls_sold_puts_bought", 389_201), ("both_sold", 3_440_887), ("both_bought", -3_440_887)]
)
def test_each_sign_rule_says_whose_side_counts(rule, net):
    gamma, interest, is_call = both_sides()
    found = gamma_exposure(gamma, interest, spot=100.0, is_call=is_call, rule=rule)
    assert found.net[0] == pytest.approx(net, abs=0.5)
    assert found.gross[0] == pytest.approx(3_440_887, abs=0.5), "gross does not depend on the rule"
    call, put = SIGN_RULES[rule]
    assert np.sign(found.call[0]) == call
    assert np.sign(found.put[0]) == put


def test_a_measured_side_takes_the_place_of_the_rule():
    gamma, interest, is_call = both_sides()
    measured = np.array([1.0, -0.5, 0.0, 0.0, 0.0, 1.0])
    found = gamma_exposure(gamma, interest, spot=100.0, is_call=is_call, side=measured)
    size = exposure_size(gamma, interest, 100.0, 100.0)
    assert found.net[0] == pytest.approx((measured * size).sum())
    with pytest.raises(ValueError, match="no sign rule"):
        dealer_side(is_call, "customers_know_best")  # type: ignore[arg-type]


def test_zero_open_interest_counts_nothing_even_without_a_volatility():
    found = gamma_exposure(np.array([np.nan, 0.05]), np.array([0.0, 0.0]), spot=100.0, is_call=np.array([True, False]))
    assert [part[0] for part in found] == [0, 0, 0, 0, 0]


def test_what_cannot_be_read_is_counted_and_never_zero():
    gamma = np.array([np.nan, 0.05, np.nan, np.nan])
    interest = np.array([10.0, 20.0, 30.0, 40.0])
    found = gamma_exposure(
        gamma, interest, spot=100.0, is_call=np.array([True, True, True, False]), group=np.array([0, 0, 1, 1]), groups=2
    )
    assert found.left_out.tolist() == [10, 70]
    assert found.net[0] == pytest.approx(0.05 * 20 * 100 * 100**2 * 0.01)
    assert np.isnan([found.call[1], found.put[1], found.net[1], found.gross[1]]).all()


@given(st.floats(1, 1000), st.floats(1, 5000), st.integers(1, 100_000), st.floats(0.0001, 5))
def test_exposure_grows_with_contracts_multiplier_and_the_square_of_the_price(multiplier, spot, contracts, gamma):
    def size(**changed: float) -> float:
        given = {"gamma": gamma, "contracts": contracts, "multiplier": multiplier, "spot": spot} | changed
        return float(
            gamma_exposure(
                np.array([given["gamma"]]), np.array([float(given["contracts"])]), spot=given["spot"],
                is_call=np.array([True]), multiplier=given["multiplier"],
            ).net[0]
        )  # fmt: skip

    usual = size()
    assert size(multiplier=10 * multiplier) == pytest.approx(10 * usual)
    assert size(contracts=2 * contracts) == pytest.approx(2 * usual)
    assert size(spot=2 * spot) == pytest.approx(4 * usual)


@st.composite
def books(draw):
    """Contracts with gamma, interest, right and a group; some cannot be read."""
    size = draw(st.integers(1, 30))
    rng = np.random.default_rng(draw(st.integers(0, 10_000)))
    gamma = np.where(rng.random(size) < 0.15, np.nan, rng.uniform(0, 0.2, size))
    group = np.sort(rng.integers(0, 5, size))
    return gamma, rng.integers(0, 5000, size).astype(float), rng.random(size) < 0.5, group


@given(books())
def test_any_grouping_adds_up_to_the_whole(book):
    gamma, interest, is_call, group = book
    whole = gamma_exposure(gamma, interest, spot=50.0, is_call=is_call)
    parts = gamma_exposure(gamma, interest, spot=50.0, is_call=is_call, group=group, groups=5)
    for of_whole, of_parts in zip(whole, parts, strict=True):
        if np.isfinite(of_whole[0]):
            assert np.nansum(of_parts) == pytest.approx(of_whole[0])
    assert np.allclose(parts.net, parts.call + parts.put, equal_nan=True)
    assert np.allclose(parts.gross, np.abs(parts.call) + np.abs(parts.put), equal_nan=True)


@given(books())
def test_turning_every_side_turns_the_exposure(book):
    gamma, interest, is_call, _ = book
    sold, bought = (
        gamma_exposure(gamma, interest, spot=50.0, is_call=is_call, rule=rule) for rule in ("both_sold", "both_bought")
    )
    assert np.allclose(sold.net, -bought.net, equal_nan=True)
    assert np.allclose(sold.gross, bought.gross, equal_nan=True)
    assert np.allclose(sold.net, sold.gross, equal_nan=True)
    usual = gamma_exposure(gamma, interest, spot=50.0, is_call=is_call)
    turned = gamma_exposure(gamma, interest, spot=50.0, is_call=~is_call)
    assert np.allclose(usual.net, -turned.net, equal_nan=True), "puts for calls"


@given(books(), st.floats(0, 1))
def test_a_side_between_counts_in_between(book, share):
    gamma, interest, is_call, _ = book
    one, other = np.where(is_call, 1.0, -1.0), np.ones(gamma.size)
    net = [
        gamma_exposure(gamma, interest, spot=50.0, is_call=is_call, side=side).net[0]
        for side in (one, other, share * one + (1 - share) * other)
    ]
    assert net[2] == pytest.approx(share * net[0] + (1 - share) * net[1], nan_ok=True, abs=1e-6)
