"""Structures with a later leg over the whole line of prices: by hand at its ends, and the same for a search and for one."""

import math

import numpy as np
import pytest
from tests.core.structures.chain import DEVIATION, FORWARD, RATE, SPOT, SURFACE, TERMS, YEARS
from tests.core.structures.test_batch import LATER, LEVELLED, OUTCOMES, QUOTES, legs_of, remaining, some

from flinch.core.structures import (
    Legs,
    bounds,
    capital,
    ending_corners,
    ending_worth,
    evaluate_block,
    value,
    verdict,
)

AMERICAN = LEVELLED._replace(exercise="american")


@pytest.mark.parametrize("exercise", ["european", "american"])
@pytest.mark.parametrize("key", LATER)
def test_a_search_and_a_page_tell_the_same_to_the_cent(key, exercise):
    block = some(key, 20)
    early = exercise == "american"
    terms = TERMS._replace(american=np.full(TERMS.american.size, float(early)))
    told = evaluate_block(block, QUOTES, terms, OUTCOMES, entry=0.3, remaining=remaining)
    surface = AMERICAN if early else LEVELLED
    shares = 100.0 * block.kind.shares
    for i in range(block.legs.shape[0]):
        made, rows = legs_of(block, i), block.legs[i]
        later = np.array([leg.later for leg in block.kind.legs])
        e = int(QUOTES.expiration[rows[~later][0]])
        local = made._replace(expiry=YEARS[QUOTES.expiration[rows] % 3])
        cost = float(told["cost"][i])
        corners = ending_corners(local, shares, surface, float(FORWARD[e]), float(DEVIATION[e]))
        most, least = bounds(corners.x.size, *corners, cost)
        # Seven digits are kept of what a search tells.
        near = {"rel": 1e-6, "abs": 0.005}
        assert (told["max_profit"][i], told["max_loss"][i]) == pytest.approx((most, least), **near)
        needs = capital(made.quantity, made.is_call, made.strike, shares, cost, SPOT[e], least)
        assert told["capital"][i] == pytest.approx(needs, **near)
        said = verdict(
            OUTCOMES[0], e, corners.x, corners.y, left=corners.left, right=corners.right, cost=cost, worst=0.99 * least
        )
        assert told["chance_of_profit_market"][i] == pytest.approx(said.chance_of_profit, abs=1e-6)
        expected = math.exp(-RATE * float(YEARS[e % 3])) * said.expected
        if not shares:
            assert told["expected_market"][i] == pytest.approx(expected, rel=1e-5, abs=0.01)


def diagonal(near: float, far: float, *, call: bool) -> Legs:
    """Sold at `near`, bought later at `far`."""
    return Legs(np.array([-1.0, 1.0]), np.array([call, call]), np.array([near, far]), YEARS[[0, 2]])


def whole(legs: Legs, surface, cost: float) -> tuple[float, float]:
    corners = ending_corners(legs, 0.0, surface, float(FORWARD[0]), float(DEVIATION[0]))
    return bounds(corners.x.size, *corners, cost)


def test_a_put_diagonal_loses_its_whole_debit_above_and_what_strikes_are_apart_below():
    lent = math.exp(-RATE * float(YEARS[2] - YEARS[0]))
    legs = diagonal(95.0, 110.0, call=False)
    assert whole(legs, LEVELLED, 1_600.0)[1] == pytest.approx(-1_600.0, abs=1e-6), "nothing is left of two puts above"
    # For a small debit the loss at zero is the greater one: the later strike is lent for a while, or exercised.
    reverse = diagonal(110.0, 95.0, call=False)
    assert whole(reverse, LEVELLED, -100.0)[1] == pytest.approx(100 * (95.0 * lent - 110.0) + 100.0, abs=1e-6)
    assert whole(reverse, AMERICAN, -100.0)[1] == pytest.approx(100 * (95.0 - 110.0) + 100.0, abs=1e-6)


def test_a_call_diagonal_is_left_with_its_strikes_at_an_infinite_price():
    legs = diagonal(95.0, 110.0, call=True)
    corners = ending_corners(legs, 0.0, LEVELLED, float(FORWARD[0]), float(DEVIATION[0]))
    lent = math.exp(-RATE * float(YEARS[2] - YEARS[0]))
    carry = float((SURFACE.carry[2] * YEARS[2] - SURFACE.carry[0] * YEARS[0]) / (YEARS[2] - YEARS[0]))
    edge = FORWARD[0] * math.exp(5 * DEVIATION[0])
    missed = edge * (1 - math.exp(-carry * float(YEARS[2] - YEARS[0])))
    assert corners.y[-1] == pytest.approx(100 * (95.0 - 110.0 * lent - missed), abs=1e-6)
    # Exercised early it is worth the price less its strike, where that is more.
    dear = AMERICAN._replace(carry=AMERICAN.carry + np.array([0.0, 0.0, 0.5]))
    assert whole(legs, dear, 0.0)[1] == pytest.approx(100 * (95.0 - 110.0), abs=1e-6)
    # What it tends to is what it is long before.
    assert corners.y[-2] == pytest.approx(corners.y[-1], abs=0.5)
    assert corners.right == 0


@pytest.mark.parametrize("call", [True, False])
def test_no_price_loses_more_than_is_told(call):
    spots = SPOT[0] * np.exp(np.linspace(-3, 3, 4001))
    for near, far in ((95.0, 110.0), (110.0, 95.0), (100.0, 100.0)):
        legs = diagonal(near, far, call=call)
        most, least = whole(legs, LEVELLED, 50.0)
        profit = ending_worth(legs, 0.0, LEVELLED, float(FORWARD[0]), float(DEVIATION[0]), spots) - 50.0
        # Between corners the line is straight.
        assert profit.min() >= least - 1.0
        assert profit.max() <= most + 1.0


def test_within_the_prices_shown_it_is_what_the_surface_says():
    spots = SPOT[0] * np.exp(np.linspace(-0.15, 0.15, 61))
    for call in (True, False):
        legs = diagonal(95.0, 105.0, call=call)
        told = ending_worth(legs, 0.0, LEVELLED, float(FORWARD[0]), float(DEVIATION[0]), spots)
        assert told == pytest.approx(value(legs, 0.0, spots, float(YEARS[0]), LEVELLED), abs=0.02)


def test_an_uncovered_later_structure_has_no_bound():
    legs = Legs(np.array([-2.0, 1.0]), np.array([True, True]), np.array([100.0, 100.0]), YEARS[[0, 2]])
    corners = ending_corners(legs, 0.0, LEVELLED, float(FORWARD[0]), float(DEVIATION[0]))
    assert corners.right == -100.0
    assert bounds(corners.x.size, *corners, 0.0)[1] == -math.inf
