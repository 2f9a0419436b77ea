"""Compiled kernels of American options: the early-exercise boundary, and the premium that it is worth."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

from flinch.core.arrays import FloatArray
from flinch.core.pricing.normal import black_over_vega, normal_cdf, normal_pdf, normalised_vega

# Collocation nodes of the boundary, quadrature points of its equation and of the premium, steps of the equation.
_NODES, _INNER, _OUTER, _STEPS = 9, 15, 25, 5
_Z = np.cos(np.arange(_NODES + 1) * np.pi / _NODES)
_HALF = np.where((np.arange(_NODES + 1) == 0) | (np.arange(_NODES + 1) == _NODES), 0.5, 1.0)
_TO_COEFFICIENTS = (
    2.0
    / _NODES
    * np.cos(np.outer(np.arange(_NODES + 1), np.arange(_NODES + 1)) * np.pi / _NODES)
    * _HALF
    * _HALF[:, None]
)
_Y, _W = np.polynomial.legendre.leggauss(_INNER)
_HIGHEST_VOL = 20.0
CHUNK = 1_024
"""Options handed to a thread at once: each costs a thousand times what a European one does."""
_YP, _WP = np.polynomial.legendre.leggauss(_OUTER)


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, inline="always")
def _series(coefficients: Any, z: float) -> float:
    """Chebyshev series at z (Clenshaw 1955)."""
    one = two = 0.0
    for k in range(_NODES, 0, -1):
        one, two = coefficients[k] + 2.0 * z * one - two, one
    return float(coefficients[0] + z * one - two)


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _first_guess(tau: float, rate: float, carry: float, vol: float, start: float, highest: float) -> float:
    """Boundary of a put on strike one at `tau`, from the quadratic approximation with its correction (Li 2010, QD+)."""
    root = vol * math.sqrt(tau)
    dr, dq = math.exp(-rate * tau), math.exp(-carry * tau)
    x = rate * tau
    h = rate / (1.0 - dr) if abs(x) > 1e-5 else 1.0 / (tau * (1.0 - 0.5 * x * (1.0 - x / 3.0)))
    omega = 2.0 * (rate - carry) / (vol * vol)
    spread = math.sqrt((omega - 1.0) ** 2 + 8.0 * h / (vol * vol))
    power = -0.5 * (omega - 1.0 + spread)
    slope = 2.0 * h * h / (vol * vol * spread)
    lean = 2.0 * power + omega - 1.0
    alpha = 2.0 * dr / (vol * vol * lean)
    beta = alpha * (h + slope / lean) - power
    s = start
    for _ in range(10):
        d1 = math.log(s * dq / dr) / root + 0.5 * root
        d2 = d1 - root
        n1, n2, density = normal_cdf(-d1), normal_cdf(-d2), normal_pdf(d1)
        price = dr * n2 - s * dq * n1
        theta = rate * dr * n2 - carry * s * dq * n1 - 0.5 * vol * vol * s / root * dq * density
        charm = -dq * (density * ((rate - carry) / root - 0.5 * d2 / tau) + carry * n1)
        value = (1.0 - dq * n1) * s + alpha * theta / dr - beta * (1.0 - s - price)
        change = 1.0 - dq * n1 + dq * density / root + beta * (1.0 - dq * n1) + alpha * charm / dr
        step = value / change
        if not math.isfinite(step):
            return start
        new = s - step
        if new <= 0.0:
            new = 0.5 * s
        new = min(new, highest)
        moved = abs(new - s)
        s = new
        if moved < 1e-5 * s:
            break
    return s


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def solve_boundary(years: float, rate: float, carry: float, vol: float, coefficients: Any, work: Any) -> float:
    """Early-exercise boundary of a put on strike one, as a Chebyshev series of ln(B / highest)^2 in the root of time.

    Returns the boundary's height at expiry, min(1, rate / carry), for rate > 0. Andersen, Lake & Offengenden (2016), "High
    performance American option pricing", Journal of Computational Finance 20(1): equation A for rates that are nearly alike,
    else B, by fixed-point steps from Li's approximation.
    """
    highest = min(1.0, rate / carry) if carry > 0.0 else 1.0
    root_years = math.sqrt(years)
    alike = abs(rate - carry) < 0.001
    guess = highest
    for i in range(_NODES - 1, -1, -1):
        x = 0.5 * root_years * (1.0 + _Z[i])
        guess = _first_guess(x * x, rate, carry, vol, guess, highest)
        work[i] = guess
    work[_NODES] = highest
    for step in range(_STEPS + 1):
        for k in range(_NODES + 1):
            total = 0.0
            for i in range(_NODES):
                total += _TO_COEFFICIENTS[k, i] * math.log(work[i] / highest) ** 2
            coefficients[k] = total
        if step == _STEPS:
            break
        for i in range(_NODES):
            x = 0.5 * root_years * (1.0 + _Z[i])
            tau, here = x * x, work[i]
            above = below = 0.0
            for j in range(_INNER):
                part = 0.5 * (1.0 + _Y[j])
                gap = x * part
                left = gap * gap
                other = x * math.sqrt(1.0 - part * part)
                square = max(_series(coefficients, 2.0 * other / root_years - 1.0), 0.0)
                ratio = math.log(here / highest) + math.sqrt(square)
                d1 = (ratio + (rate - carry) * left) / (vol * gap) + 0.5 * vol * gap
                d2 = d1 - vol * gap
                # d(left) = 2 gap d(gap), and gap = x part.
                weight = _W[j] * x * gap
                er, eq = math.exp(rate * (tau - left)), math.exp(carry * (tau - left))
                if alike:
                    above += weight * er * normal_pdf(d2) / (vol * gap)
                    below += weight * eq * (normal_cdf(d1) + normal_pdf(d1) / (vol * gap))
                else:
                    above += weight * er * normal_cdf(d2)
                    below += weight * eq * normal_cdf(d1)
            d1 = (math.log(here) + (rate - carry) * tau) / (vol * x) + 0.5 * vol * x
            d2 = d1 - vol * x
            if alike:
                n = normal_pdf(d2) / (vol * x) + rate * above
                d = normal_pdf(d1) / (vol * x) + normal_cdf(d1) + carry * below
            else:
                n = normal_cdf(d2) + rate * above
                d = normal_cdf(d1) + carry * below
            new = math.exp((carry - rate) * tau) * n / d
            if math.isfinite(new) and new > 0.0:
                work[i] = min(new, highest)
    return highest


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def exercise_premium(
    spot: float, years: float, rate: float, carry: float, vol: float, highest: float, coefficients: Any
) -> float:
    """What early exercise adds to a European put on strike one, above its boundary; below it, infinite."""
    root_years = math.sqrt(years)
    if spot <= highest * math.exp(-math.sqrt(max(_series(coefficients, 1.0), 0.0))):
        return math.inf
    total = 0.0
    for j in range(_OUTER):
        part = 0.5 * (1.0 + _YP[j])
        gap = root_years * part
        left = gap * gap
        other = math.sqrt(1.0 - part * part)
        square = max(_series(coefficients, 2.0 * other - 1.0), 0.0)
        ratio = math.log(spot / highest) + math.sqrt(square)
        d1 = (ratio + (rate - carry) * left) / (vol * gap) + 0.5 * vol * gap
        d2 = d1 - vol * gap
        flow = rate * math.exp(-rate * left) * normal_cdf(-d2) - carry * spot * math.exp(-carry * left) * normal_cdf(
            -d1
        )
        total += _WP[j] * root_years * gap * flow
    return max(total, 0.0)


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _held_boundary(
    years: float, vol: float, rate: float, carry: float, held: Any, coefficients: Any, work: Any
) -> None:
    """Solve the boundary unless it is the one held: it depends on neither spot nor strike, so neighbours share it."""
    if not (years == held[0] and vol == held[1] and rate == held[2] and carry == held[3]):
        held[4] = solve_boundary(years, rate, carry, vol, coefficients, work)
        held[0], held[1], held[2], held[3] = years, vol, rate, carry


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _put(s: float, k: float, t: float, v: float, r: float, q: float, held: Any, coefficients: Any, work: Any) -> float:
    exercised = max(k - s, 0.0)
    root = v * math.sqrt(t)
    if not root > 0.0:
        # Without volatility the best moment is now or the end, whatever lies between.
        return max(exercised, k * math.exp(-r * t) - s * math.exp(-q * t))
    forward = s * math.exp((r - q) * t)
    x = -abs(math.log(forward / k))
    european = max(k - forward, 0.0)
    european += math.sqrt(forward * k) * black_over_vega(x, root) * normalised_vega(x, root)
    european *= math.exp(-r * t)
    if r <= 0.0:
        # Money that earns nothing is not wanted early; with a still lower yield there are two boundaries.
        return european if q >= r else math.nan
    _held_boundary(t, v, r, q, held, coefficients, work)
    premium = exercise_premium(s / k, t, r, q, v, held[4], coefficients)
    return exercised if premium == math.inf else max(european + k * premium, exercised)


@njit(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
    fastmath={"contract"},
)
def american_kernel(
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    vol: FloatArray,
    is_call: FloatArray,
    rate: FloatArray,
    dividend_yield: FloatArray,
    out: FloatArray,
) -> None:
    """Prices. A call is a put with spot and strike, and rate and yield, changed over (McDonald & Schroder 1998)."""
    coefficients, work, held = np.empty(_NODES + 1), np.empty(_NODES + 1), np.full(5, np.nan)
    for i in range(out.size):
        s, k, t, v, r, q = spot[i], strike[i], years[i], vol[i], rate[i], dividend_yield[i]
        if not (s > 0.0 and k > 0.0 and t >= 0.0 and v >= 0.0):
            out[i] = math.nan
        elif is_call[i] != 0.0:
            out[i] = _put(k, s, t, v, q, r, held, coefficients, work)
        else:
            out[i] = _put(s, k, t, v, r, q, held, coefficients, work)


@njit(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
    fastmath={"contract"},
)
def american_implied_kernel(
    price: FloatArray,
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    is_call: FloatArray,
    rate: FloatArray,
    dividend_yield: FloatArray,
    out: FloatArray,
) -> None:
    """Volatilities, by Newton steps with the European vega between brackets that close."""
    coefficients, work, held = np.empty(_NODES + 1), np.empty(_NODES + 1), np.full(5, np.nan)
    for i in range(out.size):
        out[i] = math.nan
        s, k, t, r, q = spot[i], strike[i], years[i], rate[i], dividend_yield[i]
        if not (price[i] > 0.0 and s > 0.0 and k > 0.0 and t > 0.0):
            continue
        if is_call[i] != 0.0:
            s, k, r, q = k, s, q, r
        if not (price[i] > max(k - s, 0.0) * (1.0 + 1e-9) and price[i] < k):
            continue
        low, high, vol = 0.0, _HIGHEST_VOL, 0.4
        root = math.sqrt(t)
        for _ in range(80):
            value = _put(s, k, t, vol, r, q, held, coefficients, work)
            if math.isnan(value):
                break
            if value > price[i]:
                high = vol
            else:
                low = vol
            d1 = (math.log(s / k) + (r - q + 0.5 * vol * vol) * t) / (vol * root)
            vega = s * math.exp(-q * t) * normal_pdf(d1) * root
            new = vol + (price[i] - value) / vega
            if not (new > low and new < high):
                new = 0.5 * (low + high)
            moved = abs(new - vol)
            vol = new
            if moved < 1e-9:
                if vol > 1e-4 and vol < 0.999 * _HIGHEST_VOL:
                    out[i] = vol
                break
