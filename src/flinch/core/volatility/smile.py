"""At-the-money volatility of every expiry from its quoted out-of-the-money options."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray

# Strikes within this many standard deviations of the forward take part: a parabola is a fair smile there, not further out.
REACH = 1.5


class SmileFit(NamedTuple):
    """Per expiry: fitted volatility at the forward, and how many strikes took part."""

    vol: FloatArray
    strikes: IntArray


def fit_smiles(
    group: IntArray, log_moneyness: FloatArray, vol: FloatArray, vol_spread: FloatArray, *, years: FloatArray
) -> SmileFit:
    """Weighted parabola through the out-of-the-money implied volatilities of every expiry at once.

    Parameters
    ----------
    group
        For each option the index of its expiry, 0 to groups - 1, shape (options,).
    log_moneyness
        ln(K/F), shape (options,).
    vol, vol_spread
        Implied volatility of the mid and the bid-ask width in volatility, decimals, shape (options,); an option with either
        missing is left out.
    years
        Per expiry, shape (groups,).

    Returns
    -------
    `SmileFit`, shape (groups,). With 5 strikes or more a parabola, with 3 or 4 a straight line, with 1 or 2 their weighted
    mean when one lies within half a standard deviation of the forward; else NaN.

    Notes
    -----
    Least squares of sigma on k = ln(K/F), weights 1 / spread^2, strikes within 1.5 standard deviations of the forward, which
    is measured with the volatility of the strike nearest to it.
    """
    groups = years.size
    usable = np.isfinite(log_moneyness) & np.isfinite(vol) & np.isfinite(vol_spread)
    g, k, v, spread = group[usable], log_moneyness[usable], vol[usable], vol_spread[usable]
    order = np.lexsort((np.abs(k), g))
    owner, first = np.unique(g[order], return_index=True)
    deviation = np.full(groups, np.nan)
    deviation[owner] = v[order[first]] * np.sqrt(years[owner])
    near = np.abs(k) <= REACH * deviation[g]
    g, z, v, spread = g[near], k[near] / deviation[g[near]], v[near], spread[near]
    weight = 1.0 / np.maximum(spread, 1e-4) ** 2
    count = np.bincount(g, minlength=groups)
    closest = np.full(groups, np.inf)
    np.minimum.at(closest, g, np.abs(z))

    powers = [np.bincount(g, weight * z**p, minlength=groups) for p in range(5)]
    moments = [np.bincount(g, weight * v * z**p, minlength=groups) for p in range(3)]
    normal = np.stack([np.stack([powers[i + j] for j in range(3)], axis=-1) for i in range(3)], axis=-2)
    target = np.stack(moments, axis=-1)
    parabola, line = count >= 5, (count == 3) | (count == 4)
    mean = (count > 0) & ~parabola & ~line & (closest <= 0.5)
    # A term that is not fitted keeps its own equation, coefficient = 0.
    off: BoolArray = np.stack([~(parabola | line | mean), ~(parabola | line), ~parabola], axis=-1)
    normal = np.where(off[:, :, None] | off[:, None, :], 0.0, normal)
    normal[:, [0, 1, 2], [0, 1, 2]] = np.where(off, 1.0, normal[:, [0, 1, 2], [0, 1, 2]])
    solved = np.linalg.solve(normal, np.where(off, 0.0, target)[..., None])[..., 0] if groups else target
    coefficient: FloatArray = np.asarray(solved, dtype=np.float64)
    coefficient[off[:, 0]] = np.nan
    return SmileFit(coefficient[:, 0], count)
