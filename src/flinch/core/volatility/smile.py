"""The surface of every name: one raw SVI slice an expiry, fitted to its quoted out-of-the-money options."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from statistics import NormalDist
from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray, smallest_rows
from flinch.core.volatility.svi import Quotes, fit_names

# Strikes within this many standard deviations of the forward take part.
REACH = 4.5
_LEAST_SPREAD = 5e-4


class SmileFit(NamedTuple):
    """Per expiry: a, b, rho, m, sigma of raw SVI (shape (groups, 5)), the strikes that took part and how far they reach.

    `low` and `high` are the log-moneyness of the outermost strikes, `vol` the fitted volatility at the forward.
    """

    parameters: FloatArray
    vol: FloatArray
    strikes: IntArray
    low: FloatArray
    high: FloatArray


def fit_smiles(
    group: IntArray,
    log_moneyness: FloatArray,
    vol: FloatArray,
    vol_spread: FloatArray,
    *,
    name: IntArray,
    years: FloatArray,
) -> SmileFit:
    """Fit total variance against log-moneyness for every expiry of every name at once.

    Parameters
    ----------
    group
        For each option the index of its expiry, 0 to groups - 1, shape (options,).
    log_moneyness
        ln(K/F), shape (options,).
    vol, vol_spread
        Implied volatility of the mid and the bid-ask width in volatility, decimals, shape (options,); an option with either
        missing is left out.
    name, years
        Per expiry, shape (groups,): whose it is, in ascending order, and the time to it, ascending within a name.

    Returns
    -------
    `SmileFit`. With 6 strikes or more raw SVI, or an SSVI slice where its best fit would price a butterfly below zero at or
    between quoted strikes; with fewer the SSVI shape that fits all expiries of the name, at the level of the expiry's own
    strikes, one of which must lie within 1.5 standard deviations of the forward. A name with fewer than 6 strikes in all expiries
    together has no such shape: then 3 make an SSVI slice, 1 or 2 a flat line when one lies within half a deviation; else NaN.
    Where two expiries of a name are both quoted, the later one has the higher total variance.

    Notes
    -----
    w(k) = a + b (rho (k - m) + sqrt((k - m)^2 + sigma^2)), least squares weighted by 1 / spread^2. Gatheral & Jacquier (2014),
    "Arbitrage-free SVI volatility surfaces", Quantitative Finance 14(1); solved as in Zeliade Systems (2009).
    """
    groups = years.size
    usable = np.isfinite(log_moneyness) & np.isfinite(vol) & np.isfinite(vol_spread) & (vol > 0)
    usable &= (years > 0)[group]
    g, k, v, spread = group[usable], log_moneyness[usable], vol[usable], np.maximum(vol_spread[usable], _LEAST_SPREAD)
    nearest = smallest_rows(g, np.abs(k), groups)
    near = np.where(nearest >= 0, v[nearest] if v.size else np.nan, np.nan)
    deviation = near * np.sqrt(np.maximum(years, 0))
    kept = np.abs(k) <= REACH * deviation[g]
    g, k, v, spread = g[kept], k[kept], v[kept], spread[kept]
    if ((np.diff(g) < 0) | ((np.diff(g) == 0) & (np.diff(k) < 0))).any():
        order = np.lexsort((k, g))
        g, k, v, spread = g[order], k[order], v[order], spread[order]
    t = years[g]
    row_start = np.searchsorted(g, np.arange(groups + 1))
    names = int(name[-1]) + 1 if groups else 0
    expiry_start = np.searchsorted(name, np.arange(names + 1))
    fitted = np.full((5, groups), np.nan)
    # The spread of total variance is 2 sigma T times that of volatility.
    quotes = Quotes(row_start, k, v * v * t, 1.0 / (2 * v * t * spread) ** 2, deviation**2)

    def part(bounds: tuple[int, int]) -> None:
        fit_names(*bounds, expiry_start, quotes, fitted)

    step = max(1, names // (8 * (os.cpu_count() or 1)))
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for _ in pool.map(part, [(at, min(at + step, names)) for at in range(0, names, step)]):
            pass
    count = np.diff(row_start)
    low, high = np.full(groups, np.nan), np.full(groups, np.nan)
    some = np.flatnonzero(count)
    low[some], high[some] = k[row_start[:-1][some]], k[row_start[1:][some] - 1]
    parameters = np.ascontiguousarray(fitted.T)
    return SmileFit(parameters, smile_vol(parameters, years, np.zeros(groups)), count, low, high)


def raw_svi(parameters: FloatArray, log_moneyness: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Total variance of raw SVI at ln(K/F), and its slope there (Gatheral & Jacquier 2014).

    `parameters` has shape (..., 5), `log_moneyness` and what is returned (...).
    """
    a, b, rho, m, sigma = np.moveaxis(parameters, -1, 0)
    away = log_moneyness - m
    root = np.sqrt(away * away + sigma * sigma)
    with np.errstate(invalid="ignore", divide="ignore"):
        return a + b * (rho * away + root), b * (rho + away / root)


def smile_vol(parameters: FloatArray, years: FloatArray, log_moneyness: FloatArray) -> FloatArray:
    """Fitted volatility at ln(K/F), annualised decimal, NaN where not fitted.

    `parameters` has shape (..., 5), `years` and `log_moneyness` (...).
    """
    total, _ = raw_svi(parameters, log_moneyness)
    with np.errstate(invalid="ignore", divide="ignore"):
        found: FloatArray = np.sqrt(np.where(total > 0, total, np.nan) / np.where(years > 0, years, np.nan))
    return found


def delta_vol(fit: SmileFit, years: FloatArray, delta: float, *, is_call: bool) -> FloatArray:
    """Fitted volatility of the option with a forward delta of that size, shape (groups,).

    NaN where it lies beyond the quoted strikes by more than a quarter of a standard deviation: its volatility is not known.
    """
    normal = NormalDist().inv_cdf(1 - delta)
    vol = fit.vol
    root = np.sqrt(np.maximum(years, 0))
    k = np.zeros(years.shape)
    for _ in range(12):
        # d1 = (s^2 / 2 - k) / s is 0.674 for the put and -0.674 for the call of 25 delta.
        s = vol * root
        k = 0.5 * s * s + (s if is_call else -s) * normal
        vol = smile_vol(fit.parameters, years, k)
    slack = 0.25 * fit.vol * root
    known: BoolArray = (k >= fit.low - slack) & (k <= fit.high + slack)
    return np.where(known, vol, np.nan)
