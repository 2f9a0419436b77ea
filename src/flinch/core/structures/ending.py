"""What a structure is worth when its first leg ends and others live on, over the whole line of prices: one set of corners that a
search and a page share."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.compiled import njit
from flinch.core.pricing.normal import black_over_vega, normalised_vega
from flinch.core.structures.legs import MULTIPLIER, Legs
from flinch.core.structures.surface import Surface, expiration_places, later_carry, variance_left
from flinch.core.volatility.svi import total_variance

_REACH, _STEPS = 5.0, 129
_BEYOND = np.array([5.4, 5.9, 6.5, 7.2, 8.0, 9.0, 10.5, 12.5, 15.0, 19.0, 25.0, 34.0])
AWAY = np.concatenate([-_BEYOND[::-1], np.linspace(-_REACH, _REACH, _STEPS), _BEYOND])
"""Deviations from the forward at which a structure with a later leg has corners."""
MOST_CORNERS = AWAY.size + 1
"""Beside the legs that end."""
_FAR = 1e6
_NO_TIME = 1e-9


class Living(NamedTuple):
    """The legs of a structure at its first end, one number each: strike and its logarithm, whether a call, contracts times the
    multiplier; and of those that live on the years that are left, the total variance that is left, the years from now to their
    end, and the yield from the first end to theirs. `left_years` is 0 for the ones that end. `svi` has a row of raw SVI each."""

    strike: FloatArray
    log_strike: FloatArray
    is_call: FloatArray
    contracts: FloatArray
    left_years: FloatArray
    left_variance: FloatArray
    far_years: FloatArray
    carry: FloatArray
    svi: FloatArray


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _later_price(
    price: float, most: float, strike: float, is_call: bool, far_years: float, left_years: float, left_variance: float,
    svi: Any, carry: float, rate: float, american: bool,
) -> float:  # fmt: skip
    """An option that lives on, at a price of its name when the nearer leg ends: as `leg_prices`, with early exercise as a floor.
    Of prices above `most` what the forward is lower by no longer grows with them, as a dividend in cash does not."""
    growth = math.exp(rate * left_years)
    forward = price * growth - min(price, most) * (growth - math.exp((rate - carry) * left_years))
    k = math.log(strike / forward)
    a, b, rho, m, sigma = svi[0], svi[1], svi[2], svi[3], svi[4]
    form = total_variance(a, b, rho, m, sigma, k * math.sqrt(far_years / left_years))
    form /= total_variance(a, b, rho, m, sigma, 0.0)
    s = math.sqrt(max(left_variance * form, 1e-4 * left_years))
    sign = 1.0 if is_call else -1.0
    worth = max(sign * (forward - strike), 0.0)
    away = -abs(k)
    worth += math.sqrt(forward * strike) * black_over_vega(away, s) * normalised_vega(away, s)
    worth /= growth
    return max(worth, sign * (price - strike)) if american else worth


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def worth_at(price: float, most: float, held: float, legs: Any, rate: float, american: bool) -> float:
    """Worth of `held` shares and of `legs` (as `Living`) at a price when the first leg ends."""
    worth = held * price
    for j in range(legs.strike.size):
        call = legs.is_call[j] != 0.0
        if legs.left_years[j] > 0.0:
            each = _later_price(
                price, most, legs.strike[j], call, legs.far_years[j], legs.left_years[j], legs.left_variance[j], legs.svi[j],
                legs.carry[j], rate, american,
            )  # fmt: skip
        else:
            each = max((price - legs.strike[j]) * (1.0 if call else -1.0), 0.0)
        worth += legs.contracts[j] * each
    return worth


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def place_corners(
    away: Any, forward: float, deviation: float, held: float, legs: Any, rate: float, american: bool, x: Any, log_x: Any, y: Any
) -> tuple[int, float, float]:  # fmt: skip
    """Corners of the worth when the first leg ends into `x`, `log_x` and `y`: how many, and the slopes below and above them.

    From price zero to the first corner the line begins at what is left at zero. Where the legs' calls and the shares come to
    nothing, the last corner is so far out that only what is left of strikes counts there.
    """
    count = legs.strike.size
    middle = math.log(forward)
    size = away.size
    for k in range(size):
        log_x[k] = middle + deviation * away[k]
    most = math.exp(middle + deviation * _REACH)
    nothing, right, ends = 0.0, held, 0.0
    for j in range(count):
        lasts = legs.left_years[j] > 0.0
        lent = math.exp(-rate * legs.left_years[j])
        if legs.is_call[j] != 0.0:
            right += legs.contracts[j]
            kept = -legs.strike[j]
            if lasts:
                missed = most * (1.0 - math.exp(-legs.carry[j] * legs.left_years[j]))
                later = -missed - legs.strike[j] * lent
                kept = max(later, kept) if american else later
            ends += legs.contracts[j] * kept
        else:
            nothing += legs.contracts[j] * legs.strike[j] * (max(lent, 1.0) if american and lasts else lent)
        if not lasts:
            # Into its place, so that corners stay ascending.
            at = size
            while at > 0 and log_x[at - 1] > legs.log_strike[j]:
                log_x[at] = log_x[at - 1]
                at -= 1
            log_x[at] = legs.log_strike[j]
            size += 1
    for k in range(size):
        x[k] = math.exp(log_x[k])
        y[k] = worth_at(x[k], most, held, legs, rate, american)
    if abs(right) < 1e-9:
        right = 0.0
        x[size], y[size] = x[size - 1] * _FAR, ends
        log_x[size] = math.log(x[size])
        size += 1
    return size, (y[0] - nothing) / x[0], right


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def bounds(n: int, x: Any, y: Any, left: float, right: float, cost: float) -> tuple[float, float]:
    """Greatest profit and loss of a payoff that is linear between corners; infinite where there is no bound."""
    best = worst = y[0] - left * x[0]
    for j in range(n):
        best, worst = max(best, y[j]), min(worst, y[j])
    return (math.inf if right > 1e-9 else best - cost), (-math.inf if right < -1e-9 else worst - cost)


class Corners(NamedTuple):
    """A payoff: prices and worth ($ a unit), shape (corners,), linear in between; its slopes below the first and above the last
    corner."""

    x: FloatArray
    y: FloatArray
    left: float
    right: float


def living_legs(legs: Legs, surface: Surface, *, multiplier: float = MULTIPLIER) -> Living:
    """A structure's legs as they are when the first one ends, on the name's surface.

    Raises ValueError for an expiration that the surface does not have.
    """
    place = expiration_places(surface, legs.expiry)
    first = int(place[np.argmin(surface.years[place])])
    now = float(surface.years[first])
    left = surface.years[place] - now
    lasts = left > _NO_TIME
    near = np.full(place.shape, first)
    with np.errstate(invalid="ignore"):
        variance = np.where(lasts, variance_left(surface, near, place), 0.0)
    carry = [later_carry(surface, int(p), now) if lasting else 0.0 for p, lasting in zip(place, lasts, strict=True)]
    return Living(
        legs.strike,
        np.log(legs.strike),
        legs.is_call.astype(np.float64),
        multiplier * legs.quantity,
        np.where(lasts, left, 0.0),
        variance,
        surface.years[place],
        np.array(carry),
        np.ascontiguousarray(surface.parameters[place]),
    )


def ending_corners(
    legs: Legs, shares: float, surface: Surface, forward: float, deviation: float, *, multiplier: float = MULTIPLIER
) -> Corners:
    """Corners of a structure some of whose legs live on when the first one ends.

    Parameters
    ----------
    legs, shares, multiplier
        As for `expiry_payoff`, of expirations of the surface.
    surface
        The name's.
    forward, deviation
        At the first end: the forward and the standard deviation of its logarithm.

    Returns
    -------
    `Corners`, the very ones that `evaluate_block` judges: 129 within five deviations, more beyond, the strikes that end, what is
    left at price zero and, where nothing is held without bound, at an infinite one.

    Notes
    -----
    A later leg has the variance that is left of its expiration, today's smile over moneyness in units of the time that is left,
    and where options are exercised early at least the worth of its exercise.
    """
    living = living_legs(legs, surface, multiplier=multiplier)
    size = MOST_CORNERS + legs.strike.size
    x, log_x, y = np.empty(size), np.empty(size), np.empty(size)
    american = surface.exercise == "american"
    count, left, right = place_corners(
        AWAY, forward, deviation, float(shares), living, surface.rate, american, x, log_x, y
    )
    return Corners(x[:count], y[:count], left, right)


@njit(cache=True, nogil=True, error_model="numpy")
def _each_worth(prices: Any, most: float, held: float, legs: Any, rate: float, american: bool, out: Any) -> None:
    for i in range(prices.size):
        out[i] = worth_at(prices[i], most, held, legs, rate, american)


def ending_worth(
    legs: Legs,
    shares: float,
    surface: Surface,
    forward: float,
    deviation: float,
    spots: FloatArray,
    *,
    multiplier: float = MULTIPLIER,
) -> FloatArray:
    """Worth at some prices above zero, $ a unit, shape of `spots`, when the first leg ends; arguments as for `ending_corners`."""
    living = living_legs(legs, surface, multiplier=multiplier)
    out = np.empty(spots.size)
    most = forward * math.exp(_REACH * deviation)
    _each_worth(
        np.ascontiguousarray(spots, np.float64),
        most,
        float(shares),
        living,
        surface.rate,
        surface.exercise == "american",
        out,
    )
    return out
