"""Payoffs, breakevens, extremes and chances of single structures: worked by hand, and against brute force on a fine grid."""

import numpy as np
import pytest
import QuantLib as ql
from hypothesis import assume, example, given
from hypothesis import strategies as st

from flinch.core.structures import Legs, breakevens, capital, check_legs, expiry_payoff, extremes, lognormal_chance

INF = float("inf")
P, C = False, True


def legs(*each: tuple[float, bool, float], expiry: float = 0.1) -> Legs:
    quantity, is_call, strike = (np.array(column) for column in zip(*each, strict=True))
    return Legs(quantity.astype(float), is_call, strike.astype(float), np.full(len(each), expiry))


# kind, legs, shares, cost, breakevens, greatest profit, greatest loss, capital at a spot of 100: all by hand.
WORKED = [
    ("long call", legs((1, C, 105)), 0, 240, [107.4], INF, -240, 240),
    ("long put", legs((1, P, 95)), 0, 180, [93.2], 9_320, -180, 180),
    ("covered call", legs((-1, C, 105)), 100, 9_800, [98.0], 700, -9_800, 9_800),
    ("cash-secured put", legs((-1, P, 95)), 0, -180, [93.2], 180, -9_320, 9_320),
    ("put credit vertical", legs((1, P, 90), (-1, P, 95)), 0, -120, [93.8], 120, -380, 380),
    ("call credit vertical", legs((-1, C, 105), (1, C, 110)), 0, -150, [106.5], 150, -350, 350),
    ("call debit vertical", legs((1, C, 100), (-1, C, 110)), 0, 400, [104.0], 600, -400, 400),
    ("put debit vertical", legs((-1, P, 90), (1, P, 100)), 0, 350, [96.5], 650, -350, 350),
    ("long straddle", legs((1, P, 100), (1, C, 100)), 0, 700, [93.0, 107.0], INF, -700, 700),
    ("short straddle", legs((-1, P, 100), (-1, C, 100)), 0, -700, [93.0, 107.0], 700, -INF, 2_700),
    ("long strangle", legs((1, P, 95), (1, C, 105)), 0, 400, [91.0, 109.0], INF, -400, 400),
    # The call side asks for 20 - 5 = 15 a share, the put side for 20 - 5 = 15.
    ("short strangle", legs((-1, P, 95), (-1, C, 105)), 0, -400, [91.0, 109.0], 400, -INF, 1_900),
    ("iron condor", legs((1, P, 85), (-1, P, 90), (-1, C, 110), (1, C, 115)), 0, -140, [88.6, 111.4], 140, -360, 360),
    ("iron butterfly", legs((1, P, 90), (-1, P, 100), (-1, C, 100), (1, C, 110)), 0, -620, [93.8, 106.2], 620, -380, 380),
    ("call butterfly", legs((1, C, 95), (-2, C, 100), (1, C, 105)), 0, 110, [96.1, 103.9], 390, -110, 110),
    # Above 110 it is worth 10 - 2 * 5 - ... the wider wing costs 500 of what the narrower one pays.
    ("broken-wing call butterfly", legs((1, C, 95), (-2, C, 100), (1, C, 110)), 0, -50, [105.5], 550, -450, 450),
    ("call ratio", legs((1, C, 100), (-2, C, 110)), 0, 50, [100.5, 119.5], 950, -INF, 1_000),
    ("put ratio", legs((-2, P, 90), (1, P, 100)), 0, 50, [80.5, 99.5], 950, -8_050, 8_050),
    ("risk reversal", legs((-1, P, 95), (1, C, 105)), 0, -20, [94.8], INF, -9_480, 9_480),
    ("collar", legs((1, P, 95), (-1, C, 105)), 100, 10_050, [100.5], 450, -550, 550),
]  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "made", "shares", "cost", "edges", "most", "least", "needs"), WORKED, ids=[w[0] for w in WORKED]
)
def test_what_was_worked_by_hand(kind, made, shares, cost, edges, most, least, needs):
    assert breakevens(made, shares, cost) == pytest.approx(edges)
    assert extremes(made, shares, cost) == pytest.approx((most, least))
    assert capital(made.quantity, made.is_call, made.strike, shares, cost, 100.0, least) == pytest.approx(needs)
    grid = np.linspace(0, 250, 250_001)
    profit = expiry_payoff(made, shares, grid) - cost
    turns = np.flatnonzero(np.diff(np.sign(np.round(profit, 6))) != 0)
    assert np.unique(np.round(grid[turns], 1)) == pytest.approx(edges, abs=0.11)
    if np.isfinite(most):
        assert profit.max() == pytest.approx(most)
    if np.isfinite(least):
        assert profit.min() == pytest.approx(least)


@pytest.mark.parametrize(
    ("made", "cost", "needs"),
    [
        # Far out of the money a tenth stays: of the spot for calls, of the strike for puts.
        (legs((-1, P, 10), (-1, C, 200)), -100, 1_000 + 100),
        (legs((-3, P, 50), (-1, C, 200)), -400, 3 * 500 + 400),
        # A put in the money is no further out than at it.
        (legs((-1, P, 120), (-1, C, 200)), -2_100, 2_000 + 2_100),
        (legs((-1, P, 50), (-1, C, 90)), -1_200, 2_000 + 1_200),
        # Calls held cover calls sold, and the lowest strike sold says how near it is.
        (legs((-2, C, 110), (-1, C, 130), (1, C, 120)), -300, 2 * 1_000 + 300),
    ],
)
def test_what_short_options_need_without_a_bound_to_the_loss(made, cost, needs):
    """The exchanges' published minimum, by hand at a spot of 100."""
    assert capital(made.quantity, made.is_call, made.strike, 0, cost, 100.0, -np.inf) == pytest.approx(needs)


leg = st.tuples(st.sampled_from([-2, -1, 1, 2]), st.booleans(), st.integers(10, 40).map(lambda k: 5.0 * k))


@given(st.lists(leg, min_size=1, max_size=8), st.sampled_from([-100, 0, 0, 100]), st.integers(-900, 900))
def test_breakevens_and_extremes_are_those_of_the_payoff(each, shares, cost):
    made = legs(*each)
    edges = breakevens(made, shares, float(cost))
    assert expiry_payoff(made, shares, edges) == pytest.approx(np.full(edges.size, cost), abs=1e-6)
    grid = np.linspace(0, 2_000, 20_001)
    profit = expiry_payoff(made, shares, grid) - cost
    # Between two breakevens the sign does not change.
    for a, b in zip([0.0, *edges], [*edges, 2_000.0], strict=False):
        inside = profit[(grid > a + 1e-6) & (grid < b - 1e-6)]
        assert not ((inside > 1e-6).any() and (inside < -1e-6).any())
    most, least = extremes(made, shares, float(cost))
    assert profit.max() <= most + 1e-6
    assert profit.min() >= least - 1e-6
    slope = shares + 100 * sum(q for q, is_call, _ in each if is_call)
    assert (most == INF) == (slope > 0)
    assert (least == -INF) == (slope < 0)


def test_a_box_pays_its_width_and_a_conversion_its_strike_whatever_comes():
    spots = np.array([0.0, 20.0, 95.0, 100.0, 104.9, 300.0])
    box = legs((1, C, 95), (-1, C, 105), (1, P, 105), (-1, P, 95))
    assert expiry_payoff(box, 0, spots) == pytest.approx(np.full(6, 1_000.0))
    conversion = legs((-1, C, 100), (1, P, 100))
    assert expiry_payoff(conversion, 100, spots) == pytest.approx(np.full(6, 10_000.0))
    assert breakevens(box, 0, 990.0).size == 0
    assert extremes(box, 0, 990.0) == pytest.approx((10.0, 10.0))


def test_a_stretch_without_profit_or_loss_has_two_ends():
    assert breakevens(legs((-1, P, 90), (1, C, 110)), 0, 0.0) == pytest.approx([90.0, 110.0])


def test_the_chance_of_a_condor_is_the_normal_distribution_between_its_breakevens():
    condor, cost = WORKED[12][1], -140.0
    vol, years, rate, carry = 0.32, 45 / 365, 0.04, 0.01
    normal = ql.CumulativeNormalDistribution()
    deviation, mean = vol * years**0.5, np.log(100) + (rate - carry - vol * vol / 2) * years
    between = normal((np.log(111.4) - mean) / deviation) - normal((np.log(88.6) - mean) / deviation)
    found = lognormal_chance(condor, 0, cost, 100, vol, years, rate=rate, dividend_yield=carry)
    assert found == pytest.approx(between, abs=1e-12)


@example([(1, False, 110.0), (1, True, 110.0)], 0, 1.0)  # a straddle for nothing gains everywhere but at its strike
@given(st.lists(leg, min_size=1, max_size=4), st.integers(-900, 900), st.floats(0.1, 1.0))
def test_a_chance_is_that_of_drawn_prices(each, cost, vol):
    made = legs(*each)
    z = (np.arange(40_000) + 0.5) / 40_000
    normal = ql.InverseCumulativeNormal()
    draws = _draws(normal, z)
    price = 110 * np.exp(vol * 0.5 * draws - vol * vol / 8)
    profit = expiry_payoff(made, 0, price) - cost
    assume((np.abs(profit) > 1e-9).all())
    assert lognormal_chance(made, 0, float(cost), 110, vol, 0.25) == pytest.approx((profit > 0).mean(), abs=2e-4)


_KEPT: list[np.ndarray] = []


def _draws(normal: ql.InverseCumulativeNormal, z: np.ndarray) -> np.ndarray:
    if not _KEPT:
        _KEPT.append(np.array([normal(x) for x in z]))
    return _KEPT[0]


@pytest.mark.parametrize(
    ("made", "shares", "words"),
    [
        (legs((0, C, 100)), 0, "quantity must not be zero"),
        (legs((1, C, 0)), 0, "strike must be above zero"),
        (legs((1, C, float("nan"))), 0, "must be known"),
        (legs(*[(1, C, 100 + k) for k in range(9)]), 0, "8 legs at most"),
        (Legs(*[np.empty(0)] * 4), 0, "needs a leg or shares"),
    ],
)
def test_what_cannot_be_is_told(made, shares, words):
    with pytest.raises(ValueError, match=words):
        check_legs(made, shares)
    with pytest.raises(ValueError, match=words):
        expiry_payoff(made, shares, 100.0)


def test_legs_of_two_expirations_have_no_payoff_of_one():
    two = legs((1, C, 100), (-1, C, 100))._replace(expiry=np.array([0.1, 0.2]))
    with pytest.raises(ValueError, match="end at different times"):
        expiry_payoff(two, 0, 100.0)
