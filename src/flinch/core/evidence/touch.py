"""The chance that options give to touching a price: reflection on the smile's own chances."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.pricing.normal import normal_cdfs
from flinch.core.volatility import raw_svi

_SQRT_TWO_PI = np.sqrt(2 * np.pi)


class SpanSmile(NamedTuple):
    """Smiles of some spans of time, read between two expirations each.

    `near` and `far` are raw SVI of those, shape (..., 5), in total variance over the logarithm of the strike; `near_share` and
    `far_share`, shape (...), are how much of each one's total variance belongs to the span.
    """

    near: FloatArray
    far: FloatArray
    near_share: FloatArray
    far_share: FloatArray


def flat_smile(variance: FloatArray) -> SpanSmile:
    """Spans without a smile, of a total variance each."""
    level = np.asarray(variance, dtype=np.float64)
    parameters = np.zeros((*level.shape, 5))
    parameters[..., 0], parameters[..., 4] = level, 1.0
    return SpanSmile(parameters, parameters, np.ones(level.shape), np.zeros(level.shape))


def span_smiles(
    owner: IntArray, years: FloatArray, parameters: FloatArray, wanted: IntArray, span: FloatArray
) -> SpanSmile:
    """The smile of each span, from its name's surface.

    Parameters
    ----------
    owner, years, parameters
        Whose an expiration is, its time and its raw SVI, shapes (expirations,), (expirations,) and (expirations, 5); by owner and
        time, each time above zero. Expirations whose parameters are missing are passed over.
    wanted, span
        Whose surface, and the time, of each span; shape (spans,).

    Returns
    -------
    `SpanSmile` of shape (spans,): between two expirations the total variance at each strike goes evenly; before the first and
    after the last its volatility is theirs. NaN where the name has no smile, or the span is not above zero.
    """
    known = np.isfinite(parameters).all(axis=1) & (years > 0)
    owner, years, parameters = owner[known], years[known], parameters[known]
    first, last = np.searchsorted(owner, wanted, "left"), np.searchsorted(owner, wanted, "right") - 1
    there = (last >= first) & (span > 0)
    if not owner.size:
        nothing = np.full(wanted.shape, np.nan)
        return SpanSmile(np.full((*wanted.shape, 5), np.nan), np.full((*wanted.shape, 5), np.nan), nothing, nothing)
    # Times of one owner lie together: a key of both finds the first expiration at or after a span.
    most = float(max(years.max(), np.nanmax(span, initial=0.0))) + 1.0
    after = np.searchsorted(owner * most + years, wanted * most + np.where(there, span, 0.0), "left")
    far = np.clip(after, first, np.maximum(last, first))
    near = np.clip(after - 1, first, np.maximum(last, first))
    near, far = (np.clip(place, 0, owner.size - 1) for place in (near, far))
    alone = near == far
    with np.errstate(invalid="ignore", divide="ignore"):
        far_share = np.where(alone, 0.0, (span - years[near]) / np.where(alone, 1.0, years[far] - years[near]))
        near_share = np.where(alone, span / years[near], 1.0 - far_share)
    missing = np.where(there, 1.0, np.nan)
    return SpanSmile(parameters[near], parameters[far], near_share * missing, far_share * missing)


def touch_chance(level: FloatArray, smile: SpanSmile) -> FloatArray:
    """Chance that options give to touching a level in a span of time.

    Parameters
    ----------
    level
        The level over the price now, above zero; at or above one it is a rise.
    smile
        Of the span, over ln(K / price), of the broadcast shape of `level`.

    Returns
    -------
    Between 0 and 1, 1 at the price itself; NaN where an argument is missing or not above zero.

    Notes
    -----
    Carr, Ellis & Gupta (1998), "Static hedging of exotic options", Journal of Finance 53(3): a driftless price whose smile is
    symmetric touches K above it with the chance 2 D + C / K, K below it with 2 D - P / K, where C and P are the undiscounted
    prices at K and D the chance of ending beyond it, the slope of the smile included. Each side is divided by its own value at
    the price, which a skew moves away from one. A flat smile gives the lognormal chance exactly (Shreve 2004, Stochastic Calculus
    for Finance II, 7.2). Under a local variance of elasticity -2 in the price it is within 2 points of drawn paths; under one of
    -5 up to 5 points too low for rises. It falls with distance; that of a fall where the smile expects no price at all between
    others does not, by the definition.
    """
    level = np.asarray(level, dtype=np.float64)
    with np.errstate(invalid="ignore", divide="ignore"):
        log = np.log(np.where(level > 0, level, np.nan))
        found = _reflected(log, smile, level >= 1) / _reflected(np.zeros_like(log), smile, level >= 1)
    chance: FloatArray = np.clip(found, 0.0, 1.0)
    return chance


def _reflected(log: FloatArray, smile: SpanSmile, rise: BoolArray) -> FloatArray:
    """2 D + C / K of rises and 2 D - P / K of falls, at K / price = exp(log)."""
    near, near_slope = raw_svi(smile.near, log)
    far, far_slope = raw_svi(smile.far, log)
    # A share of nothing is nothing, whatever the other smile says there.
    w = smile.near_share * near + np.where(smile.far_share == 0, 0.0, smile.far_share * far)
    slope = smile.near_share * near_slope + np.where(smile.far_share == 0, 0.0, smile.far_share * far_slope)
    s = np.sqrt(np.where(w > 0, w, np.nan))
    sign = np.where(rise, 1.0, -1.0)
    d2 = -log / s - 0.5 * s
    lean = np.exp(-0.5 * d2 * d2) / _SQRT_TWO_PI * slope / (2 * s)
    plain, moved = normal_cdfs(sign * d2), normal_cdfs(sign * (d2 + s))
    beyond = np.clip(plain - sign * lean, 0.0, 1.0)
    option_over_strike = sign * (np.exp(-log) * moved - plain)
    reflected: FloatArray = 2 * beyond + sign * option_over_strike
    return reflected
