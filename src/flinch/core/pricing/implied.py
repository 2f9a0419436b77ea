"""Implied volatility."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import FloatArray, broadcast_flat, run_in_chunks, shaped
from flinch.core.compiled import njit
from flinch.core.pricing.american import CHUNK, american_implied_kernel
from flinch.core.pricing.exercise import Exercise, is_american
from flinch.core.pricing.normal import SQRT_TWO_PI, black_over_vega, erfcx, normalised_vega

_MAX_STEPS = 24


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, inline="always")
def _householder(newton: float, second: float, third: float) -> float:
    """Step of fourth order from the Newton step and f''/f', f'''/f' (Householder 1970)."""
    below = 1.0 + newton * (second + newton * third / 6.0)
    above = 1.0 + 0.5 * second * newton
    if above <= 0.0 or below <= 0.0:
        return newton
    return newton * above / below


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _total_deviation(beta: float, x: float, beta_max: float) -> float:
    """Solve the normalised out-of-the-money Black price for s = vol * sqrt(T).

    Three branches, as in Jaeckel (2015), each solved on a transform of the price that is nearly straight there:
    1/ln(b) below the inflection point s_c = sqrt(2|x|), b itself above it, ln(b_max - b) near the upper bound.
    """
    s_c = math.sqrt(-2.0 * x)
    b_c = 0.5 * beta_max * (1.0 - erfcx(math.sqrt(-x)))
    slope_c = beta_max / SQRT_TWO_PI
    if beta < 0.95 * b_c:
        log_beta = math.log(beta)
        z = -1.0 / log_beta
        z_c = -1.0 / math.log(b_c)
        s = math.sqrt(z * (0.5 * x * x + (s_c * s_c / z_c - 0.5 * x * x) * z / z_c))
        for _ in range(_MAX_STEPS):
            ratio = black_over_vega(x, s)
            if not ratio > 0.0:
                s *= 1.25
                continue
            h = x / s
            log_b = math.log(ratio / SQRT_TWO_PI) - 0.5 * (h * h + 0.25 * s * s)
            w = 1.0 / ratio
            c2 = h * h / s - 0.25 * s
            c3 = c2 * c2 - 3.0 * h * h / (s * s) - 0.25
            newton = log_b * (1.0 - log_b / log_beta) * ratio
            lean = w / log_b
            l2 = c2 - w
            l3 = c3 - 3.0 * w * c2 + 2.0 * w * w
            step = _householder(newton, l2 - 2.0 * lean, l3 - 6.0 * l2 * lean + 6.0 * lean * lean)
            step = max(step, -0.5 * s)
            s += step
            if abs(step) < 1e-3 * s:
                break
        return s
    if beta < 0.6 * beta_max:
        d = (beta - b_c) / slope_c
        s = s_c + d * (1.0 + d * d / 6.0)
        for _ in range(_MAX_STEPS):
            vega = normalised_vega(x, s)
            h = x / s
            newton = beta / vega - black_over_vega(x, s)
            c2 = h * h / s - 0.25 * s
            step = _householder(newton, c2, c2 * c2 - 3.0 * h * h / (s * s) - 0.25)
            step = max(step, -0.5 * s)
            s += step
            if abs(step) < 1e-3 * s:
                break
        return s
    gap = beta_max - beta
    # Start from N(-s/2) ~ gap / (exp(x/2) + exp(-x/2)), inverse normal of Abramowitz & Stegun 26.2.22.
    r = math.sqrt(-2.0 * math.log(gap / (beta_max + 1.0 / beta_max)))
    s = max(2.0 * (r - (2.30753 + 0.27061 * r) / (1.0 + r * (0.99229 + 0.04481 * r))), s_c)
    for _ in range(_MAX_STEPS):
        vega = normalised_vega(x, s)
        room = beta_max - vega * black_over_vega(x, s)
        if not room > 0.0:
            s *= 0.9
            continue
        h = x / s
        w = -vega / room
        c2 = h * h / s - 0.25 * s
        newton = -math.log(room / gap) / w
        step = _householder(newton, c2 - w, c2 * c2 - 3.0 * h * h / (s * s) - 0.25 - 3.0 * w * c2 + 2.0 * w * w)
        step = max(step, -0.5 * s)
        s += step
        if abs(step) < 1e-3 * s:
            break
    return s


@njit(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
    fastmath={"contract"},
)
def _implied_kernel(
    price: FloatArray,
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    is_call: FloatArray,
    rate: FloatArray,
    dividend_yield: FloatArray,
    out: FloatArray,
) -> None:
    for i in range(out.size):
        out[i] = math.nan
        if not (price[i] > 0.0 and spot[i] > 0.0 and strike[i] > 0.0 and years[i] > 0.0):
            continue
        growth = math.exp(rate[i] * years[i])
        forward = spot[i] * growth
        if dividend_yield[i] != 0.0:
            forward *= math.exp(-dividend_yield[i] * years[i])
        value = price[i] * growth
        over = forward - strike[i] if is_call[i] != 0.0 else strike[i] - forward
        if over > 0.0:
            value -= over
        beta = value / math.sqrt(forward * strike[i])
        moneyness = forward / strike[i]
        beta_max = math.sqrt(min(moneyness, 1.0 / moneyness))
        if beta > 0.0 and beta < beta_max and value < min(forward, strike[i]):
            x = -abs(math.log(moneyness))
            out[i] = _total_deviation(beta, x, beta_max) / math.sqrt(years[i])


def implied_vol(
    price: ArrayLike,
    spot: ArrayLike,
    strike: ArrayLike,
    years: ArrayLike,
    *,
    is_call: ArrayLike,
    rate: ArrayLike = 0.0,
    dividend_yield: ArrayLike = 0.0,
    exercise: Exercise = "european",
) -> Any:
    """Volatility at which `option_price` returns `price`.

    Parameters
    ----------
    price
        Per share, in price units.
    spot, strike
        In price units, above zero.
    years
        Time to expiry in years of 365 days, above zero.
    is_call
        True for a call, false for a put.
    rate, dividend_yield
        Continuously compounded, as decimals.
    exercise
        "european" or "american".

    Returns
    -------
    Annualised volatility as a decimal in the broadcast shape of the arguments; NaN where an argument is missing, or where
    the price is on or outside the no-arbitrage bounds (intrinsic value of the forward, and its upper limit; American, the
    value of exercise now, where any volatility low enough gives the same price).

    Raises
    ------
    ValueError
        For another exercise style.

    Notes
    -----
    The price is reduced to the out-of-the-money side by put-call parity and solved by Householder steps of fourth order.
    Yardstick: Jaeckel (2015), "Let's Be Rational", Wilmott 2015(75). Round trip within 1e-8 where the price exceeds
    intrinsic by 1e-9 of the forward.
    """
    american = is_american(exercise)
    inputs, shape = broadcast_flat(price, spot, strike, years, is_call, rate, dividend_yield)
    out = np.empty(inputs[0].size)
    if american:
        run_in_chunks(american_implied_kernel, inputs, [out], CHUNK)
    else:
        run_in_chunks(_implied_kernel, inputs, [out])
    return shaped(out, shape)
