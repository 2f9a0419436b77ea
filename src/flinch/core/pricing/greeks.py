"""Greeks."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import FloatArray, broadcast_flat, run_in_chunks, shaped
from flinch.core.compiled import njit
from flinch.core.pricing.exercise import Exercise, is_american
from flinch.core.pricing.normal import normal_cdf, normal_pdf
from flinch.core.pricing.price import option_price


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
        "european" or "american".

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
    Derivatives of Black & Scholes (1973) with a continuous yield, Merton (1973). American: central differences of the price,
    theta from its differential equation; where exercise is due, delta is one, all others are zero.
    """
    american = is_american(exercise)
    inputs, shape = broadcast_flat(spot, strike, years, vol, is_call, rate, dividend_yield)
    if american:
        return Greeks(*[shaped(out, shape) for out in _american_greeks(*inputs)])
    outputs = [np.empty(inputs[0].size) for _ in range(5)]
    run_in_chunks(_greeks_kernel, inputs, outputs)
    return Greeks(*[shaped(out, shape) for out in outputs])


def _american_greeks(
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    vol: FloatArray,
    is_call: FloatArray,
    rate: FloatArray,
    dividend_yield: FloatArray,
) -> list[FloatArray]:
    years, vol = np.where(years > 0, years, np.nan), np.where(vol > 0, vol, np.nan)

    def price(spot: FloatArray, vol: FloatArray, rate: FloatArray) -> FloatArray:
        others = [a[:, None] for a in (strike, years, is_call, dividend_yield)]
        k, t, call, q = others
        found: FloatArray = option_price(
            spot, k, t, vol, is_call=call, rate=rate, dividend_yield=q, exercise="american"
        )
        return found

    # Spots side by side share a boundary.
    step = spot * np.clip(0.04 * vol * np.sqrt(years), 1e-4, 0.01)
    below, here, above = price(spot[:, None] + step[:, None] * [-1, 0, 1], vol[:, None], rate[:, None]).T
    delta = (above - below) / (2 * step)
    gamma = np.maximum(above - 2 * here + below, 0.0) / step**2
    theta = rate * here - (rate - dividend_yield) * spot * delta - 0.5 * (vol * spot) ** 2 * gamma
    nudge = np.array([-1e-4, 1e-4])
    lower, upper = price(spot[:, None], vol[:, None] + nudge, rate[:, None]).T
    cheap, dear = price(spot[:, None], vol[:, None], rate[:, None] + nudge).T
    sign = np.where(is_call != 0, 1.0, -1.0)
    due = (here > 0) & (here <= sign * (spot - strike))
    # What may be exercised now is never worth less for having more time.
    values = [delta, gamma, np.minimum(theta, 0.0) / 365, (upper - lower) / 0.02, (dear - cheap) / 0.02]
    return [
        np.where(np.isnan(here), np.nan, np.where(due, sign if place == 0 else 0.0, value))
        for place, value in enumerate(values)
    ]
