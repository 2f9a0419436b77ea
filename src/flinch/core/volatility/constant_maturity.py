"""Implied volatility at a fixed number of days, from the listed expirations around it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import BoolArray, FloatArray


class ConstantMaturity(NamedTuple):
    """Volatility at each target, and where it lies beyond the listed expirations (flat volatility)."""

    vol: FloatArray
    extrapolated: BoolArray


def constant_maturity(years: ArrayLike, vols: ArrayLike, target_years: ArrayLike) -> ConstantMaturity:
    """Volatility at fixed maturities by linear interpolation of total variance.

    Parameters
    ----------
    years
        Time to each listed expiration, shape (expiries,) or (names, expiries), years of 365 days, above zero; NaN where a
        name has fewer. Any order.
    vols
        At-the-money volatility of each, same shape, decimals; NaN is left out.
    target_years
        Shape (targets,).

    Returns
    -------
    `ConstantMaturity`, shape (targets,) or (names, targets). Beyond the ends the volatility of the nearest expiration, with
    `extrapolated` set; NaN (and not flagged) for a name without a volatility.

    Notes
    -----
    sigma^2 T is linear in T between the two expirations that bracket the target.
    """
    t = np.asarray(years, dtype=np.float64)
    v = np.asarray(vols, dtype=np.float64)
    target = np.atleast_1d(np.asarray(target_years, dtype=np.float64))
    flat = t.ndim == 1
    t, v = np.atleast_2d(t), np.atleast_2d(v)
    usable = np.isfinite(t) & np.isfinite(v)
    order = np.argsort(np.where(usable, t, np.inf), axis=1, kind="stable")
    t = np.take_along_axis(np.where(usable, t, np.inf), order, axis=1)
    v = np.take_along_axis(np.where(usable, v, np.nan), order, axis=1)
    count = usable.sum(axis=1)
    vol = np.full((t.shape[0], target.size), np.nan)
    extrapolated = np.zeros(vol.shape, dtype=bool)
    some = np.flatnonzero(count)
    for column, goal in enumerate(target):
        right = (t[some] < goal).sum(axis=1)
        beyond = (right == 0) | (right == count[some])
        # A target on a listed expiration is that expiration, first and last included.
        exact = (right < count[some]) & (t[some, np.minimum(right, count[some] - 1)] == goal)
        lo = np.clip(right - 1, 0, count[some] - 1)
        hi = np.clip(right, 0, count[some] - 1)
        t_lo, t_hi = t[some, lo], t[some, hi]
        w_lo, w_hi = v[some, lo] ** 2 * t_lo, v[some, hi] ** 2 * t_hi
        share = np.where(t_hi > t_lo, (goal - t_lo) / np.where(t_hi > t_lo, t_hi - t_lo, 1.0), 0.0)
        between = np.sqrt((w_lo + share * (w_hi - w_lo)) / goal)
        vol[some, column] = np.where(exact | beyond, v[some, np.where(right == 0, 0, hi)], between)
        extrapolated[some, column] = beyond & ~exact
    if flat:
        return ConstantMaturity(vol[0], extrapolated[0])
    return ConstantMaturity(vol, extrapolated)


def constant_maturity_vol(years: ArrayLike, vols: ArrayLike, target_years: ArrayLike) -> FloatArray:
    """Volatility part of `constant_maturity`; a scalar target gives a result without the target axis."""
    vol = constant_maturity(years, vols, target_years).vol
    return vol[..., 0] if np.ndim(target_years) == 0 else vol


def span_vol(tenor_years: FloatArray, vols: list[FloatArray], years: float) -> FloatArray:
    """Volatility of a span between fixed maturities that all names share: total variance, linear in time.

    Parameters
    ----------
    tenor_years
        The maturities, ascending, shape (tenors,).
    vols
        Volatility at each, decimals, all of any one shape.
    years
        The span, above zero.

    Returns
    -------
    That shape; beyond the ends the volatility of the end, NaN where one of the two around the span is missing.
    """
    place = int(np.searchsorted(tenor_years, years))
    if place in (0, tenor_years.size):
        return vols[0 if place == 0 else -1]
    near, far = tenor_years[place - 1], tenor_years[place]
    share = (years - near) / (far - near)
    total = (1 - share) * np.square(vols[place - 1]) * near + share * np.square(vols[place]) * far
    found: FloatArray = np.sqrt(total / years)
    return found
