"""Compiled scalar kernels of the normal distribution and of the normalised Black price."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.compiled import njit

SQRT_HALF = 0.7071067811865476
SQRT_TWO_PI = 2.5066282746310002
SQRT_HALF_PI = 1.2533141373155001
_ONE_OVER_SQRT_PI = 0.5641895835477563


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, inline="always")
def erfcx(y: float) -> float:
    """Scaled complementary error function exp(y^2) erfc(y).

    Rational approximations of Cody (1969), Mathematics of Computation 23, accurate to about 1e-16 relative.
    """
    a = abs(y)
    if a <= 0.46875:
        z = a * a
        num = (
            ((0.185777706184603153 * z + 3.16112374387056560) * z + 113.864154151050156) * z + 377.485237685302021
        ) * z
        den = (((z + 23.6012909523441209) * z + 244.024637934444173) * z + 1282.61652607737228) * z
        erf = y * (num + 3209.37758913846947) / (den + 2844.23683343917062)
        return math.exp(z) * (1.0 - erf)
    if a <= 4.0:
        num = 2.15311535474403846e-8 * a
        num = (num + 0.564188496988670089) * a
        num = (num + 8.88314979438837594) * a
        num = (num + 66.1191906371416295) * a
        num = (num + 298.635138197400131) * a
        num = (num + 881.952221241769090) * a
        num = (num + 1712.04761263407058) * a
        num = (num + 2051.07837782607147) * a
        den = (a + 15.7449261107098347) * a
        den = (den + 117.693950891312499) * a
        den = (den + 537.181101862009858) * a
        den = (den + 1621.38957456669019) * a
        den = (den + 3290.79923573345963) * a
        den = (den + 4362.61909014324716) * a
        den = (den + 3439.36767414372164) * a
        result = (num + 1230.33935479799725) / (den + 1230.33935480374942)
    else:
        z = 1.0 / (a * a)
        num = 0.0163153871373020978 * z
        num = (num + 0.305326634961232344) * z
        num = (num + 0.360344899949804439) * z
        num = (num + 0.125781726111229246) * z
        num = (num + 0.0160837851487422766) * z
        den = (z + 2.56852019228982242) * z
        den = (den + 1.87295284992346725) * z
        den = (den + 0.527905102951428412) * z
        den = (den + 0.0605183413124413191) * z
        result = z * (num + 0.000658749161529837803) / (den + 0.00233520497626869185)
        result = (_ONE_OVER_SQRT_PI - result) / a
    if y < 0.0:
        result = 2.0 * math.exp(y * y) - result
    return result


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, inline="always")
def black_over_vega(x: float, s: float) -> float:
    """Normalised out-of-the-money Black price divided by its derivative in s.

    With x = ln(F/K) <= 0 for a call and s = vol * sqrt(T) > 0, the price over sqrt(F K) is
    b = exp(x/2) N(x/s + s/2) - exp(-x/2) N(x/s - s/2) and b' = exp(-(x^2/s^2 + s^2/4)/2) / sqrt(2 pi).
    Their ratio needs no exponential of the distance from the money, so it keeps its accuracy far out.
    """
    h = x / s
    t = 0.5 * s
    return SQRT_HALF_PI * (erfcx(-(h + t) * SQRT_HALF) - erfcx((t - h) * SQRT_HALF))


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, inline="always")
def normalised_vega(x: float, s: float) -> float:
    """Derivative in s of the normalised Black price."""
    h = x / s
    t = 0.5 * s
    return math.exp(-0.5 * (h * h + t * t)) / SQRT_TWO_PI


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, inline="always")
def normal_cdf(z: float) -> float:
    return 0.5 * math.erfc(-z * SQRT_HALF)


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, inline="always")
def normal_pdf(z: float) -> float:
    return math.exp(-0.5 * z * z) / SQRT_TWO_PI


@njit(cache=True, nogil=True, error_model="numpy")
def _normal_cdfs(values: Any, out: Any) -> None:
    for i in range(values.size):
        out[i] = normal_cdf(values[i])


def normal_cdfs(values: FloatArray) -> FloatArray:
    """Standard normal distribution function of an array of any shape; NaN where missing."""
    flat = np.ascontiguousarray(values, dtype=np.float64).reshape(-1)
    out = np.empty(flat.size)
    _normal_cdfs(flat, out)
    return out.reshape(np.shape(values))
