"""Compiled kernels of American options: the early-exercise boundary, and the premium that it is worth."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.compiled import njit
from flinch.core.pricing.normal import black_over_vega, normal_cdf, normal_pdf, normalised_vega

# Collocation nodes of the boundary, quadrature points of its equation, of the premium, of the premium where a tenth of a cent
# is enough, and steps of the equation.
_NODES, _INNER, _OUTER, _COARSE, _STEPS = 9, 15, 25, 9, 5
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
CHUNK = 512
"""Options handed to a thread at once: each costs a thousand times what a European one does."""
_YP, _WP = np.polynomial.legendre.leggauss(_OUTER)
_YC, _WC = np.polynomial.legendre.leggauss(_COARSE)


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
def solve_boundary(
    years: float, rate: float, carry: float, vol: float, coefficients: Any, work: Any, table: Any
) -> float:
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
        work[i] = math.log(guess / highest)
        for j in range(_INNER):
            # d(left) = 2 gap d(gap), and gap = x part.
            part = 0.5 * (1.0 + _Y[j])
            gap = x * part
            place = i * _INNER + j
            table[0, place] = gap
            table[1, place] = (1.0 + _Z[i]) * math.sqrt(1.0 - part * part) - 1.0
            table[2, place] = _W[j] * x * gap * math.exp(rate * (x * x - gap * gap))
            table[3, place] = _W[j] * x * gap * math.exp(carry * (x * x - gap * gap))
    work[_NODES] = 0.0
    shift = math.log(highest)
    for step in range(_STEPS + 1):
        for k in range(_NODES + 1):
            total = 0.0
            for i in range(_NODES):
                total += _TO_COEFFICIENTS[k, i] * work[i] * work[i]
            coefficients[k] = total
        if step == _STEPS:
            break
        for i in range(_NODES):
            x = 0.5 * root_years * (1.0 + _Z[i])
            above = below = 0.0
            for j in range(_INNER):
                place = i * _INNER + j
                gap = table[0, place]
                root = vol * gap
                ratio = work[i] + math.sqrt(max(_series(coefficients, table[1, place]), 0.0))
                d1 = (ratio + (rate - carry) * gap * gap) / root + 0.5 * root
                if alike:
                    above += table[2, place] * normal_pdf(d1 - root) / root
                    below += table[3, place] * (normal_cdf(d1) + normal_pdf(d1) / root)
                else:
                    above += table[2, place] * normal_cdf(d1 - root)
                    if carry != 0.0:
                        below += table[3, place] * normal_cdf(d1)
            root = vol * x
            d1 = (work[i] + shift + (rate - carry) * x * x) / root + 0.5 * root
            if alike:
                n = normal_pdf(d1 - root) / root + rate * above
                d = normal_pdf(d1) / root + normal_cdf(d1) + carry * below
            else:
                n = normal_cdf(d1 - root) + rate * above
                d = normal_cdf(d1) + carry * below
            new = (carry - rate) * x * x + math.log(n / d) - shift
            if math.isfinite(new):
                work[i] = min(new, 0.0)
    return highest


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def exercise_premium(
    spot: float,
    years: float,
    rate: float,
    carry: float,
    vol: float,
    highest: float,
    coefficients: Any,
    points: Any,
    weights: Any,
) -> float:
    """What early exercise adds to a European put on strike one, above its boundary; below it, infinite."""
    root_years = math.sqrt(years)
    if spot <= highest * math.exp(-math.sqrt(max(_series(coefficients, 1.0), 0.0))):
        return math.inf
    total = 0.0
    height = math.log(spot / highest)
    for j in range(points.size):
        part = 0.5 * (1.0 + points[j])
        gap = root_years * part
        left = gap * gap
        other = math.sqrt(1.0 - part * part)
        square = max(_series(coefficients, 2.0 * other - 1.0), 0.0)
        ratio = height + math.sqrt(square)
        d1 = (ratio + (rate - carry) * left) / (vol * gap) + 0.5 * vol * gap
        flow = rate * math.exp(-rate * left) * normal_cdf(vol * gap - d1)
        if carry != 0.0:
            flow -= carry * spot * math.exp(-carry * left) * normal_cdf(-d1)
        total += weights[j] * root_years * gap * flow
    return max(total, 0.0)


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _solve_once(years: float, vol: float, rate: float, carry: float, solved: Any, coefficients: Any, room: Any) -> None:
    """Solve the boundary unless it is the one held: it depends on neither spot nor strike, so neighbours share it."""
    if not (years == solved[0] and vol == solved[1] and rate == solved[2] and carry == solved[3]):
        solved[4] = solve_boundary(years, rate, carry, vol, coefficients, room[4], room)
        solved[0], solved[1], solved[2], solved[3] = years, vol, rate, carry


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _put(
    s: float, k: float, t: float, v: float, r: float, q: float, solved: Any, coefficients: Any, room: Any
) -> float:
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
    _solve_once(t, v, r, q, solved, coefficients, room)
    premium = exercise_premium(s / k, t, r, q, v, solved[4], coefficients, _YP, _WP)
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
    coefficients, room, solved = np.empty(_NODES + 1), np.empty((5, _NODES * _INNER)), np.full(5, np.nan)
    for i in range(out.size):
        s, k, t, v, r, q = spot[i], strike[i], years[i], vol[i], rate[i], dividend_yield[i]
        if not (s > 0.0 and k > 0.0 and t >= 0.0 and v >= 0.0):
            out[i] = math.nan
        elif is_call[i] != 0.0:
            out[i] = _put(k, s, t, v, q, r, solved, coefficients, room)
        else:
            out[i] = _put(s, k, t, v, r, q, solved, coefficients, room)


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
    coefficients, room, solved = np.empty(_NODES + 1), np.empty((5, _NODES * _INNER)), np.full(5, np.nan)
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
        for step in range(80):
            value = _put(s, k, t, vol, r, q, solved, coefficients, room)
            if math.isnan(value):
                break
            if value > price[i]:
                high = vol
            else:
                low = vol
            d1 = (math.log(s / k) + (r - q + 0.5 * vol * vol) * t) / (vol * root)
            vega = s * math.exp(-q * t) * normal_pdf(d1) * root
            new = vol + (price[i] - value) / vega
            # The European vega can be too small by far, and Newton's steps then go to and fro.
            if step >= 24 or not (new > low and new < high):
                new = 0.5 * (low + high)
            moved = abs(new - vol)
            vol = new
            if moved < 1e-9:
                if vol > 1e-4 and vol < 0.999 * _HIGHEST_VOL:
                    out[i] = vol
                break


@njit(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
    fastmath={"contract"},
)
def premium_kernel(
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    vol: FloatArray,
    is_call: FloatArray,
    rate: FloatArray,
    dividend_yield: FloatArray,
    out: FloatArray,
) -> None:
    """What early exercise adds; NaN where exercise is due now or the price is not known."""
    coefficients, room, solved = np.empty(_NODES + 1), np.empty((5, _NODES * _INNER)), np.full(5, np.nan)
    for i in range(out.size):
        s, k, t, v, r, q = spot[i], strike[i], years[i], vol[i], rate[i], dividend_yield[i]
        out[i] = math.nan
        if not (s > 0.0 and k > 0.0 and t > 0.0 and v > 0.0):
            continue
        if is_call[i] != 0.0:
            s, k, r, q = k, s, q, r
        if r <= 0.0:
            out[i] = 0.0 if q >= r else math.nan
            continue
        _solve_once(t, v, r, q, solved, coefficients, room)
        premium = exercise_premium(s / k, t, r, q, v, solved[4], coefficients, _YC, _WC)
        if premium != math.inf:
            out[i] = k * premium
