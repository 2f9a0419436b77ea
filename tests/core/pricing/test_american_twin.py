"""The compiled early-exercise boundary and premium beside a plain twin: the same equation by slow and simple means.

The twin solves Kim's (1990) equation for the boundary of a put on strike one on a fine grid of times, from the end backwards,
with no series, no transformation of the unknown and no approximation to begin with; then it integrates the premium.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from scipy.special import ndtr

from flinch.core.arrays import FloatArray
from flinch.core.pricing import american, early_exercise_value, option_price

NODES = 64
POINTS, WEIGHTS = np.polynomial.legendre.leggauss(96)
Boundary = Callable[[FloatArray], FloatArray]


def d_plus(ratio: FloatArray, time: FloatArray, rate: float, carry: float, vol: float) -> FloatArray:
    return (np.log(ratio) + (rate - carry + 0.5 * vol * vol) * time) / (vol * np.sqrt(time))


def d_minus(ratio: FloatArray, time: FloatArray, rate: float, carry: float, vol: float) -> FloatArray:
    return d_plus(ratio, time, rate, carry, vol) - vol * np.sqrt(time)


def over_time(years: float) -> tuple[FloatArray, FloatArray]:
    """Times up to `years` and their weights in an integral: even in the root of time, where everything is smooth."""
    root = 0.5 * np.sqrt(years) * (1 + POINTS)
    return root * root, np.sqrt(years) * WEIGHTS * root


def plain_boundary(years: float, rate: float, carry: float, vol: float) -> Boundary:
    """The boundary as a function of the time left, linear between nodes in the root of it."""
    highest = min(1.0, rate / carry) if carry > 0 else 1.0
    roots = np.sqrt(years) * np.linspace(0, 1, NODES + 1)
    height = np.full(NODES + 1, highest)

    def at(left: FloatArray) -> FloatArray:
        return np.interp(np.sqrt(np.maximum(left, 0.0)), roots, height)

    for i in range(1, NODES + 1):
        time = roots[i] ** 2
        gap, weight = over_time(time)
        height[i] = height[i - 1]
        for _ in range(100):
            ratio = height[i] / at(time - gap)
            above = rate * (weight * np.exp(rate * (time - gap)) * ndtr(d_minus(ratio, gap, rate, carry, vol))).sum()
            below = carry * (weight * np.exp(carry * (time - gap)) * ndtr(d_plus(ratio, gap, rate, carry, vol))).sum()
            n = ndtr(d_minus(height[i], time, rate, carry, vol)) + above
            d = ndtr(d_plus(height[i], time, rate, carry, vol)) + below
            new = min(highest, np.exp((carry - rate) * time) * n / d)
            moved, height[i] = abs(new - height[i]), new
            if moved < 1e-9:
                break
    return at


def plain_premium(spot: float, years: float, rate: float, carry: float, vol: float, at: Boundary) -> float:
    """What early exercise adds to a European put on strike one (Kim 1990)."""
    gap, weight = over_time(years)
    ratio = spot / at(years - gap)
    money = rate * np.exp(-rate * gap) * ndtr(-d_minus(ratio, gap, rate, carry, vol))
    stock = carry * spot * np.exp(-carry * gap) * ndtr(-d_plus(ratio, gap, rate, carry, vol))
    return float((weight * (money - stock)).sum())


@pytest.fixture(
    scope="module", params=[(0.25, 0.05, 0.0, 0.3), (1.0, 0.08, 0.03, 0.25), (0.5, 0.04, 0.07, 0.4)], ids=str
)
def twin(request: pytest.FixtureRequest):
    return request.param, plain_boundary(*request.param)


def test_the_boundary_is_that_of_the_plain_equation(twin):
    (years, rate, carry, vol), at = twin
    coefficients, work = np.empty(american._NODES + 1), np.empty((5, american._NODES * american._INNER))
    highest = american.solve_boundary(years, rate, carry, vol, coefficients, work[4], work)
    assert highest == pytest.approx(min(1.0, rate / carry) if carry else 1.0)
    for share in (0.1, 0.3, 0.6, 1.0):
        series = np.polynomial.chebyshev.chebval(2 * np.sqrt(share) - 1, coefficients)
        assert highest * np.exp(-np.sqrt(series)) == pytest.approx(float(at(share * years)), abs=1e-3)


def test_premium_and_price_are_those_of_the_plain_integral(twin):
    (years, rate, carry, vol), at = twin
    kind = {"is_call": False, "rate": rate, "dividend_yield": carry}
    spots = [spot for spot in (0.6, 0.8, 0.95, 1.0, 1.1, 1.3) if spot > float(at(years)) + 0.01]
    assert len(spots) >= 4
    for spot in spots:
        premium = plain_premium(spot, years, rate, carry, vol, at)
        european, whole = (
            option_price(spot, 1.0, years, vol, **kind, exercise=exercise) for exercise in ("european", "american")
        )
        assert whole - european == pytest.approx(premium, abs=2e-5)
        assert early_exercise_value(spot, 1.0, years, vol, **kind) == pytest.approx(premium, abs=3e-5)
