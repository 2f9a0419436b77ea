"""A name's fitted surface now and later, and what a structure is worth on it at any date and shift of volatility."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike
from scipy.interpolate import PchipInterpolator

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.pricing import Exercise, greeks, option_price
from flinch.core.structures.legs import MULTIPLIER, Legs, check_legs
from flinch.core.structures.outcomes import NODES, Outcomes, variance_at_forward
from flinch.core.volatility import smile_vol

_LEAST_VOL = 0.01
_EARLY_POINTS = 13
"""Prices at which the value of early exercise is computed; between them it is interpolated."""
_EARLY_MATTERS = 1e-5
"""What early exercise must be worth, as a share of the price, to count in the greeks."""
_SAME = 1e-9
_LEVEL_STEP, _LEVEL_STEPS, _LEVELS = 16, 3, (0.05, 4.0)


class Surface(NamedTuple):
    """The fitted smiles of one name.

    `years` (ascending), `carry` (yield that makes spot grow to the forward) and raw SVI `parameters` of each expiration, shapes
    (expirations,), (expirations,) and (expirations, 5); NaN where one could not be read. `event_years` is the time at which price
    reacts to the next report and `event_variance` what options price for it, NaN without one. `rate` is continuously compounded.
    `levels`, shape (expirations, expirations): what the variance that is left of the later one (column) when the nearer one (row)
    ends is multiplied with, so that the fitted prices of both agree (`with_levels`); none: one.
    """

    years: FloatArray
    carry: FloatArray
    parameters: FloatArray
    rate: float
    exercise: Exercise
    event_years: float = float("nan")
    event_variance: float = float("nan")
    levels: FloatArray | None = None

    @property
    def variance(self) -> FloatArray:
        """Total variance at the forward, of each expiration."""
        return variance_at_forward(self.parameters)


def variance_by(surface: Surface, time: ArrayLike) -> FloatArray:
    """Total variance that options price for the time from now until `time` (years, any shape).

    Between expirations variance comes evenly, but that of the report on its day alone; NaN beyond the last expiration.
    """
    at = np.asarray(time, dtype=np.float64)
    total, years = surface.variance, surface.years
    known = np.isfinite(total) & np.isfinite(years)
    event = surface.event_variance if np.isfinite(surface.event_years) and surface.event_variance > 0 else 0.0
    inside = known & (years >= surface.event_years) if event else np.zeros(years.size, dtype=bool)
    calm = np.maximum(total - np.where(inside, event, 0.0), 0.25 * total)
    # What of the report an expiration cannot hold beside a quarter of its own variance is not there.
    report = np.where(inside, total - calm, 0.0)
    calm = np.maximum.accumulate(calm[known])
    even: FloatArray = np.interp(at, np.concatenate([[0.0], years[known]]), np.concatenate([[0.0], calm]), right=np.nan)
    if not event:
        return even
    first = float(report[inside][0]) if inside.any() else 0.0
    stepped: FloatArray = even + np.where(at >= surface.event_years, first, 0.0)
    return stepped


def later_vol(surface: Surface, expiration: ArrayLike, time: float, log_moneyness: FloatArray) -> FloatArray:
    """Volatility that an expiration will have at a later time, under the fitted surface.

    Parameters
    ----------
    surface
        The name's.
    expiration
        Index of the expiration for each value, broadcast with `log_moneyness`.
    time
        Years from now, before the expiration.
    log_moneyness
        ln(K/F) then.

    Returns
    -------
    Annualised decimal; now (`time` 0) the fitted volatility itself. NaN where the smile is missing or no time is left.

    Notes
    -----
    The level is that of the variance which is left (`variance_by`, times `levels`), the smile that of today over moneyness in
    units of the time that is left: the forward variance of the surface with a smile that keeps its form.
    """
    place = np.broadcast_to(np.asarray(expiration), np.shape(log_moneyness))
    parameters, years = surface.parameters[place], surface.years[place]
    left = years - time
    with np.errstate(invalid="ignore", divide="ignore"):
        left = np.where(left > 0, left, np.nan)
        if time <= 0:
            return smile_vol(parameters, years, log_moneyness)
        total = surface.variance[place]
        remaining = np.maximum(total - variance_by(surface, time), _LEAST_VOL**2 * left) * _level(surface, place, time)
        form = smile_vol(parameters, years, log_moneyness * np.sqrt(years / left)) / np.sqrt(total / years)
        found: FloatArray = np.sqrt(remaining / left) * form
        return found


def _level(surface: Surface, place: IntArray, time: float) -> FloatArray:
    """The factor on the variance that is left at `time`: one today, and evenly on to that of each nearer expiration."""
    if surface.levels is None:
        return np.ones(place.shape)
    levels, years = surface.levels, surface.years
    each = np.ones(years.size)
    for j in np.unique(place).tolist():
        each[j] = np.interp(time, np.concatenate([[0.0], years[:j]]), np.concatenate([[1.0], levels[:j, j]]))
    found: FloatArray = each[place]
    return found


def variance_left(surface: Surface, near: IntArray, far: IntArray) -> FloatArray:
    """Total variance that is left of later expirations when nearer ones end, places in the surface of any one shape."""
    with np.errstate(invalid="ignore"):
        left = surface.variance[far] - variance_by(surface, surface.years[near])
        if surface.levels is not None:
            left = left * surface.levels[near, far]
    return left


def later_carry(surface: Surface, expiration: int, time: float) -> float:
    """The yield that makes a price at `time` grow to the forward of an expiration, so that forwards of forwards agree."""
    years = float(surface.years[expiration])
    known = np.isfinite(surface.carry)
    growth = np.interp(
        time, np.concatenate([[0.0], surface.years[known]]), np.concatenate([[0.0], (surface.carry * surface.years)[known]])
    )  # fmt: skip
    return float((surface.carry[expiration] * years - growth) / (years - time))


def with_levels(surface: Surface, market: Outcomes, places: IntArray, near_ones: BoolArray | None = None) -> Surface:
    """The surface whose later volatilities agree with what options cost today.

    Parameters
    ----------
    surface
        The name's.
    market
        What the fitted smiles imply (`market_outcomes`), of the same expirations or of a table that has them.
    places
        Where in `market` each expiration of the surface is.
    near_ones
        The expirations whose end matters, shape (expirations,); none: all of them.

    Returns
    -------
    The surface with `levels`: for every pair the factor on the variance that is left at which the at-the-money call of the later
    expiration, valued when the nearer one ends under the market's own opinion of the price then, is worth what it is today. One
    where nothing can be said; between 0.05 and 4.
    """
    count = surface.years.size
    levels = np.ones((count, count))
    near, far = np.triu_indices(count, 1)
    known = np.isfinite(market.low[places[near]]) & np.isfinite(surface.variance[far])
    if near_ones is not None:
        known &= near_ones[near]
    near, far = near[known], far[known]
    if not near.size:
        return surface._replace(levels=levels)
    cells = np.arange(0, NODES, _LEVEL_STEP)
    rows = places[near]
    mass = np.diff(market.chance[rows][:, cells], axis=1)
    worth = np.diff(market.part[rows][:, cells], axis=1)
    ends = market.low[rows, None] + market.step[rows, None] * cells
    with np.errstate(invalid="ignore", divide="ignore"):
        price = np.where(mass > 1e-12, worth / mass, np.exp(0.5 * (ends[:, 1:] + ends[:, :-1])))
    years, before = surface.years[far], surface.years[near]
    left = years - before
    carry = (surface.carry[far] * years - surface.carry[near] * before) / left
    total = surface.variance
    ahead = np.maximum(total[far] - variance_by(surface, before), _LEAST_VOL**2 * left)
    # The spot is one: its forward is the strike, and the call is worth what its total variance says.
    spot = market.mean[rows] * np.exp(-(surface.rate - surface.carry[near]) * before)
    strike = spot * np.exp((surface.rate - surface.carry[far]) * years)
    today = option_price(
        spot,
        strike,
        years,
        np.sqrt(total[far] / years),
        is_call=True,
        rate=surface.rate,
        dividend_yield=surface.carry[far],
    )
    forward = price * np.exp((surface.rate - carry) * left)[:, None]
    k = np.log(strike[:, None] / forward)
    form = smile_vol(
        np.repeat(surface.parameters[far][:, None, :], cells.size - 1, axis=1), years[:, None], k * np.sqrt(years / left)[:, None]
    ) / np.sqrt(total[far] / years)[:, None]  # fmt: skip

    def off(level: FloatArray) -> FloatArray:
        vol = np.sqrt(level * ahead / left)[:, None] * form
        each = option_price(
            price, strike[:, None], left[:, None], vol, is_call=True, rate=surface.rate, dividend_yield=carry[:, None]
        )  # fmt: skip
        gap: FloatArray = (mass * each).sum(axis=1) * np.exp(-surface.rate * before) - today
        return gap

    one, other = np.full(near.size, 1.0), np.full(near.size, 0.8)
    gap_one, gap_other = off(one), off(other)
    for _ in range(_LEVEL_STEPS):
        with np.errstate(invalid="ignore", divide="ignore"):
            step = gap_other * (other - one) / (gap_other - gap_one)
        new = np.clip(other - np.where(np.isfinite(step), step, 0.0), *_LEVELS)
        one, gap_one, other = other, gap_other, new
        gap_other = off(other)
    levels[near, far] = np.where(np.isfinite(gap_other), other, 1.0)
    return surface._replace(levels=levels)


def expiration_places(surface: Surface, expiry: FloatArray) -> IntArray:
    """Which expiration of a surface each leg is of; raises ValueError for one that it does not have."""
    apart = np.abs(surface.years[None, :] - expiry[:, None])
    place = apart.argmin(axis=1) if surface.years.size else np.zeros(expiry.size, np.int64)
    if expiry.size and (not surface.years.size or not (apart[np.arange(expiry.size), place] < _SAME).all()):
        raise ValueError("a leg is of an expiration that the surface does not have")
    return place.astype(np.int64)


def leg_prices(
    surface: Surface,
    place: IntArray,
    strike: FloatArray,
    is_call: BoolArray,
    spots: FloatArray,
    time: float = 0.0,
    vol_shift: float = 0.0,
) -> FloatArray:
    """Price per share of some options at other prices of their name and a later time.

    Parameters
    ----------
    surface
        The name's.
    place, strike, is_call
        Of each option: its expiration in the surface, strike and right; shape (legs,).
    spots
        Prices of the name, ascending, shape (prices,).
    time
        Years from now; an option that ends then is worth its exercise.
    vol_shift
        Added to every volatility, a decimal.

    Returns
    -------
    Shape (legs, prices). With early exercise where the name's options have it: its value is computed at a few prices and
    interpolated in between (Fritsch & Carlson 1980).
    """
    sign = np.where(is_call, 1.0, -1.0)[:, None]
    out = np.maximum(sign * (spots - strike[:, None]), 0.0)
    left = surface.years[place] - time
    if (left < -_SAME).any():
        raise ValueError("a leg has ended before the time it is valued at")
    living = np.flatnonzero(left > _SAME)
    if not living.size:
        return out
    of, years, call = place[living], left[living, None], is_call[living, None]
    carry = np.array([later_carry(surface, int(expiration), time) for expiration in of])[:, None]

    def price(at: FloatArray, exercise: Exercise) -> FloatArray:
        moneyness = np.log(strike[living, None] / at) - (surface.rate - carry) * years
        vol = np.maximum(later_vol(surface, of[:, None], time, moneyness) + vol_shift, _LEAST_VOL)
        found: FloatArray = option_price(
            at,
            strike[living, None],
            years,
            vol,
            is_call=call,
            rate=surface.rate,
            dividend_yield=carry,
            exercise=exercise,
        )
        return found

    worth = price(spots, "european" if spots.size > _EARLY_POINTS else surface.exercise)
    if surface.exercise == "american":
        if spots.size > _EARLY_POINTS:
            few = np.linspace(spots[0], spots[-1], _EARLY_POINTS)
            early = np.nan_to_num(price(few, "american") - price(few, "european"))
            between = PchipInterpolator(few, early, axis=1)  # type: ignore[no-untyped-call]
            worth += np.maximum(between(spots), 0.0)
        worth = np.maximum(worth, out[living])
    out[living] = worth
    return out


def value(
    legs: Legs,
    shares: float,
    spot: ArrayLike,
    time: float,
    surface: Surface,
    vol_shift: float = 0.0,
    *,
    multiplier: float = MULTIPLIER,
) -> FloatArray:
    """What a structure is worth at other prices of its name, a later time and shifted volatilities.

    Parameters
    ----------
    legs, shares, multiplier
        As for `expiry_payoff`, of any expirations of the surface.
    spot
        Prices of the name, ascending, any one-dimensional shape or one number.
    time
        Years from now, no later than the first expiration of a leg.
    surface
        The name's.
    vol_shift
        Added to every volatility, a decimal.

    Returns
    -------
    $ per unit, shape of `spot`; NaN where a leg's volatility is not known. Raises ValueError as `check_legs`, for an expiration
    that the surface does not have, and for a time after a leg's end.
    """
    check_legs(legs, shares)
    spots = np.atleast_1d(np.asarray(spot, dtype=np.float64))
    place = expiration_places(surface, legs.expiry)
    prices = leg_prices(surface, place, legs.strike, legs.is_call, spots, time, vol_shift)
    worth: FloatArray = shares * spots + multiplier * (legs.quantity[:, None] * prices).sum(axis=0)
    return worth.reshape(np.shape(spot))


class StructureGreeks(NamedTuple):
    """Of a unit, shape of the times: `worth` in $, `delta` and `gamma` in shares (and shares a $), `theta` in $ a day, `vega` in
    $ a volatility point, `rho` in $ a rate point."""

    worth: FloatArray
    delta: FloatArray
    gamma: FloatArray
    theta: FloatArray
    vega: FloatArray
    rho: FloatArray


def structure_greeks(
    legs: Legs,
    shares: float,
    spot: float,
    surface: Surface,
    time: ArrayLike = 0.0,
    *,
    multiplier: float = MULTIPLIER,
) -> StructureGreeks:
    """Sensitivities of a structure at some times with its name at one price, on the fitted surface.

    `time` is as for `value`, of any shape. An option that ends then has the delta of its exercise, no vega, and no gamma or theta
    (NaN); NaN too where a leg's volatility is not known. Raises as `value`.
    """
    check_legs(legs, shares)
    times = np.atleast_1d(np.asarray(time, dtype=np.float64)).reshape(-1)
    place = expiration_places(surface, legs.expiry)
    sign = np.where(legs.is_call, 1.0, -1.0)
    exercised = np.maximum(sign * (spot - legs.strike), 0.0)
    # Of each leg (columns) at each time (rows): worth, delta, gamma, theta, vega, rho.
    each = np.zeros((6, times.size, legs.strike.size))
    each[0], each[1] = exercised, np.where(exercised > 0, sign, 0.0)
    each[2:4] = np.nan
    left = surface.years[place] - times[:, None]
    if (left < -_SAME).any():
        raise ValueError("a leg has ended before the time it is valued at")
    living = left > _SAME
    carry, vol = np.zeros(left.shape), np.full(left.shape, np.nan)
    for row, at in enumerate(times.tolist()):
        mine = np.flatnonzero(living[row])
        if mine.size:
            carry[row, mine] = [later_carry(surface, int(expiration), at) for expiration in place[mine]]
            moneyness = np.log(legs.strike[mine] / spot) - (surface.rate - carry[row, mine]) * left[row, mine]
            vol[row, mine] = later_vol(surface, place[mine], at, moneyness)
    of = np.broadcast_to(np.arange(legs.strike.size), left.shape)[living]
    strike, call, years = legs.strike[of], legs.is_call[of], left[living]
    terms: dict[str, Any] = {"is_call": call, "rate": surface.rate, "dividend_yield": carry[living]}
    floored = np.maximum(vol[living], _LEAST_VOL)
    worth = option_price(spot, strike, years, floored, **terms)
    slopes = list(greeks(spot, strike, years, vol[living], **terms))
    if surface.exercise == "american":
        early = option_price(spot, strike, years, floored, exercise="american", **terms)
        # Whose early exercise is worth nothing has the greeks of a European option.
        matters = early - worth > _EARLY_MATTERS * spot
        if matters.any():
            terms = {key: np.broadcast_to(term, years.shape)[matters] for key, term in terms.items()}
            exact = greeks(spot, strike[matters], years[matters], vol[living][matters], exercise="american", **terms)
            for slope, part in zip(slopes, exact, strict=True):
                slope[matters] = part
        worth = np.fmax(early, worth)
    for out, part in zip(each, [worth, *slopes], strict=True):
        out[living] = part
    sums = multiplier * (legs.quantity * each).sum(axis=2)
    sums[0] += shares * spot
    sums[1] += shares
    return StructureGreeks(*[part.reshape(np.shape(time)) for part in sums])
