"""Greeks of European options."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit
from numpy.typing import ArrayLike

from flinch.core.arrays import FloatArray, broadcast_flat, run_in_chunks, shaped
from flinch.core.pricing.exercise import Exercise, require_european
from flinch.core.pricing.normal import normal_cdf, normal_pdf


class Greeks(NamedTuple):
    """Sensitivities per share: delta and gamma per 1.00 of spot, theta per calendar day, vega and rho per 0.01."""

    delta: Any
    gamma: Any
    theta: Any
    vega: Any
    rho: Any


@njit(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
    fastmath={"contract"},
)
def _greeks_kernel(
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    vol: FloatArray,
    is_call: FloatArray,
    rate: FloatArray,
    dividend_yield: FloatArray,
    delta: FloatArray,
    gamma: FloatArray,
    theta: FloatArray,
    vega: FloatArray,
    rho: FloatArray,
) -> None:
    for i in range(delta.size):
        s, k, t, v, r, q = spot[i], strike[i], years[i], vol[i], rate[i], dividend_yield[i]
        if not (s > 0.0 and k > 0.0 and t > 0.0 and v > 0.0):
            delta[i] = gamma[i] = theta[i] = vega[i] = rho[i] = math.nan
            continue
        sign = 1.0 if is_call[i] != 0.0 else -1.0
        root = math.sqrt(t)
        d1 = (math.log(s / k) + (r - q + 0.5 * v * v) * t) / (v * root)
        d2 = d1 - v * root
        carry = math.exp(-q * t)
        discount = math.exp(-r * t)
        density = normal_pdf(d1)
        n1 = normal_cdf(sign * d1)
        n2 = normal_cdf(sign * d2)
        delta[i] = sign * carry * n1
        gamma[i] = carry * density / (s * v * root)
        vega[i] = 0.01 * s * carry * density * root
        theta[i] = (
            -0.5 * s * carry * density * v / root - sign * r * k * discount * n2 + sign * q * s * carry * n1
        ) / 365.0
        rho[i] = 0.01 * sign * k * t * discount * n2


def greeks(
    spot: ArrayLike,
    strike: ArrayLike,
    years: ArrayLike,
    vol: ArrayLike,
    *,
    is_call: ArrayLike,
    rate: ArrayLike = 0.0,
    dividend_yield: ArrayLike = 0.0,
    exercise: Exercise = "european",
) -> Greeks:
    """Greeks of an option per share.

    Parameters
    ----------
    spot, strike
        In price units, above zero.
    years
        Time to expiry in years of 365 days, above zero.
    vol
        Annualised volatility as a decimal, above zero.
    is_call
        True for a call, false for a put.
    rate, dividend_yield
        Continuously compounded, as decimals.
    exercise
        Only "european".

    Returns
    -------
    `Greeks` with delta and gamma per 1.00 of spot, theta per calendar day, vega per vol point (0.01) and rho per rate
    point (0.01), each in the broadcast shape of the arguments; NaN where an argument is missing or outside its range.

    Raises
    ------
    ValueError
        For another exercise style.

    Notes
    -----
    Derivatives of Black & Scholes (1973) with a continuous yield, Merton (1973).
    """
    require_european(exercise)
    inputs, shape = broadcast_flat(spot, strike, years, vol, is_call, rate, dividend_yield)
    outputs = [np.empty(inputs[0].size) for _ in range(5)]
    run_in_chunks(_greeks_kernel, inputs, outputs)
    return Greeks(*[shaped(out, shape) for out in outputs])
