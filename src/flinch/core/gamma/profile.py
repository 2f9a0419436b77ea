"""Exposure along a range of spots, every gamma worked out anew at each, and the spot where it changes sign."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray, group_bounds, over_groups, writable
from flinch.core.compiled import njit

SPAN = 0.2
"""How far from the market the profile reaches, as a share of the spot."""
PROFILE_STEPS = 41
_NEGLIGIBLE = 1e-12


class Contracts(NamedTuple):
    """Contracts in order of their `group` (one spot each, mostly a name), shape (contracts,).

    `weight` is side * open interest * multiplier: what a unit of gamma counts for. Years, volatility and rates as for
    `flinch.core.pricing.greeks`; a contract with a missing one, or no time left, counts for nothing.
    """

    group: IntArray
    strike: FloatArray
    years: FloatArray
    vol: FloatArray
    dividend_yield: FloatArray
    weight: FloatArray


def spot_grid(spot: FloatArray | float, steps: int = PROFILE_STEPS, span: float = SPAN) -> FloatArray:
    """Spots from 1 - span to 1 + span times `spot`, evenly spaced in logarithm, shape (..., steps)."""
    shares = np.exp(np.linspace(math.log(1 - span), math.log(1 + span), steps))
    grid: FloatArray = np.asarray(spot, dtype=np.float64)[..., None] * shares
    return grid


@njit(
    "void(i8, i8, i8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8, f8, f8[:, ::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
    fastmath={"contract"},
)
def _profile_kernel(
    first: int,
    last: int,
    bounds: IntArray,
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    vol: FloatArray,
    dividend_yield: FloatArray,
    weight: FloatArray,
    rate: float,
    step: float,
    out: FloatArray,
) -> None:
    """Adds weight * density(d1) / (vol * root) to `out` for groups `first` to `last`.

    d1 grows by the same amount from one spot of the grid to the next, so the density follows from its neighbour by two
    multiplications: from its largest value outward, where nothing can overflow.
    """
    steps = out.shape[1]
    for g in range(first, last):
        for i in range(bounds[g], bounds[g + 1]):
            k, t, v, q, w = strike[i], years[i], vol[i], dividend_yield[i], weight[i]
            if not (w != 0.0 and k > 0.0 and t > 0.0 and v > 0.0 and spot[g] > 0.0):
                continue
            root = v * math.sqrt(t)
            start = (math.log(spot[g] / k) + (rate - q + 0.5 * v * v) * t) / root
            b = step / root
            nearest = -start / b
            j = 0 if nearest < 0.0 else steps - 1 if nearest > steps - 1 else int(nearest + 0.5)
            d = start + j * b
            least = _NEGLIGIBLE * abs(w)
            peak = w * math.exp(-q * t - 0.5 * d * d) / (root * 2.5066282746310002)
            shrink = math.exp(-b * b)
            out[g, j] += peak
            value, ratio = peak, math.exp(-d * b - 0.5 * b * b)
            for up in range(j + 1, steps):
                value *= ratio
                ratio *= shrink
                if abs(value) < least:
                    break
                out[g, up] += value
            value, ratio = peak, math.exp(d * b - 0.5 * b * b)
            for down in range(j - 1, -1, -1):
                value *= ratio
                ratio *= shrink
                if abs(value) < least:
                    break
                out[g, down] += value


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _net(
    spot: float,
    first: int,
    last: int,
    strike: FloatArray,
    years: FloatArray,
    vol: FloatArray,
    dividend_yield: FloatArray,
    weight: FloatArray,
    rate: float,
) -> float:
    total = 0.0
    for i in range(first, last):
        k, t, v, q = strike[i], years[i], vol[i], dividend_yield[i]
        if weight[i] != 0.0 and k > 0.0 and t > 0.0 and v > 0.0:
            root = v * math.sqrt(t)
            d = (math.log(spot / k) + (rate - q + 0.5 * v * v) * t) / root
            total += weight[i] * math.exp(-q * t - 0.5 * d * d) / root
    return total


@njit(
    "void(i8, i8, i8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8, f8[:, ::1], f8[::1], f8[::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
    fastmath={"contract"},
)
def _flip_kernel(
    first: int,
    last: int,
    bounds: IntArray,
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    vol: FloatArray,
    dividend_yield: FloatArray,
    weight: FloatArray,
    rate: float,
    profile: FloatArray,
    shares: FloatArray,
    out: FloatArray,
) -> None:
    """The crossing nearest to the market, bracketed by the grid and closed in on by false position (Illinois)."""
    for g in range(first, last):
        out[g] = math.nan
        best, cell = math.inf, -1
        for j in range(shares.size - 1):
            a, b = profile[g, j], profile[g, j + 1]
            if (a < 0.0 and b > 0.0) or (a > 0.0 and b < 0.0):
                near = abs(shares[j] + (shares[j + 1] - shares[j]) * a / (a - b) - 1.0)
                if near < best:
                    best, cell = near, j
        if cell < 0:
            continue
        low, high = spot[g] * shares[cell], spot[g] * shares[cell + 1]
        at_low, at_high = profile[g, cell], profile[g, cell + 1]
        place, side = 0.5 * (low + high), 0
        for _ in range(60):
            place = (low * at_high - high * at_low) / (at_high - at_low)
            value = (
                _net(place, bounds[g], bounds[g + 1], strike, years, vol, dividend_yield, weight, rate)
                / 2.5066282746310002
            )
            if value == 0.0:
                break
            if (value > 0.0) == (at_high > 0.0):
                moved = high - place
                high, at_high = place, value
                if side == 1:
                    at_low *= 0.5
                side = 1
            else:
                moved = place - low
                low, at_low = place, value
                if side == -1:
                    at_high *= 0.5
                side = -1
            if moved < 1e-9 * spot[g] or high - low < 1e-9 * spot[g]:
                break
        out[g] = place


def _arrays(contracts: Contracts) -> list[FloatArray]:
    return [writable(values) for values in contracts[1:]]


def exposure_profile(
    contracts: Contracts, spot: FloatArray, *, rate: float = 0.0, steps: int = PROFILE_STEPS, span: float = SPAN
) -> FloatArray:
    """Exposure of each group at every spot of `spot_grid`, each gamma worked out at that spot.

    Parameters
    ----------
    contracts
        Every contract keeps its volatility while the spot moves: the surface stays where it is, by strike.
    spot
        The market, shape (groups,).
    rate
        Continuously compounded.
    steps, span
        As for `spot_grid`.

    Returns
    -------
    Currency per 1 % move, shape (groups, steps); zeros where nothing counts, NaN where the spot is missing.

    Raises
    ------
    ValueError
        When the contracts are not in order of their group.

    Notes
    -----
    gamma * spot^2 * 0.01 = 0.01 * spot * exp(-qT) density(d1) / (vol * root of T); d1 is linear in the logarithm of the spot.
    """
    spot = writable(spot)
    bounds = group_bounds(contracts.group, spot.size)
    out = np.zeros((spot.size, steps))
    grid = spot_grid(spot, steps, span)
    start = np.ascontiguousarray(grid[:, 0])
    step = math.log((1 + span) / (1 - span)) / (steps - 1)
    given: tuple[Any, ...] = (bounds, start, *_arrays(contracts), rate, step, out)
    over_groups(lambda first, last: _profile_kernel(first, last, *given), bounds)
    found: FloatArray = 0.01 * grid * out
    return found


def gamma_flip(contracts: Contracts, spot: FloatArray, *, rate: float = 0.0, span: float = SPAN) -> FloatArray:
    """The spot nearest to the market at which a group's exposure crosses zero.

    Parameters
    ----------
    contracts, spot, rate, span
        As for `exposure_profile`.

    Returns
    -------
    Price, shape (groups,); NaN where there is no crossing within `span` of the market, which is an answer too: exposure then
    has one sign over the whole range.

    Notes
    -----
    Looked for between the 41 spots of the profile, then closed in on to a billionth of the spot by false position (Dowell &
    Jarratt 1971). Two crossings within a percent of each other are not seen.
    """
    spot = writable(spot)
    bounds = group_bounds(contracts.group, spot.size)
    arrays = tuple(_arrays(contracts))
    profile = np.zeros((spot.size, PROFILE_STEPS))
    shares = spot_grid(1.0, PROFILE_STEPS, span)
    start = spot * shares[0]
    step = math.log((1 + span) / (1 - span)) / (PROFILE_STEPS - 1)
    out = np.full(spot.size, np.nan)
    on_grid: tuple[Any, ...] = (bounds, start, *arrays, rate, step, profile)
    between: tuple[Any, ...] = (bounds, spot, *arrays, rate, profile, shares, out)

    def find(first: int, last: int) -> None:
        _profile_kernel(first, last, *on_grid)
        _flip_kernel(first, last, *between)

    over_groups(find, bounds)
    return out
