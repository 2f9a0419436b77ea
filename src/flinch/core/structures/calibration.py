"""Whether chances that were said came true."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.pricing.normal import normal_cdfs

BANDS = (0.5, 0.75, 1.0, 1.25, 1.5, 1.75, 2.0)
"""Distances in expected moves within which price may end."""
LEAST_CASES = 30


class Reliability(NamedTuple):
    """By tenth of the chances said, shape (10,): their mean, how often it came (decimals, NaN where nothing was said) and how
    many."""

    said: FloatArray
    came: FloatArray
    cases: IntArray


def brier(said: FloatArray, came: BoolArray) -> float:
    """Mean squared distance between a chance and what came, 0 to 1, less is better (Brier 1950); NaN without a case.

    `said` are decimals, NaN ones are left out; `came` of the same shape.
    """
    known = np.isfinite(said)
    return float(np.mean((said[known] - came[known]) ** 2)) if known.any() else float("nan")


def reliability(said: FloatArray, came: BoolArray) -> Reliability:
    """How often what was said came true, by tenth of the chance said; arguments as for `brier`."""
    known = np.isfinite(said)
    said, hit = said[known], came[known].astype(np.float64)
    tenth = np.minimum((said * 10).astype(np.int64), 9)
    cases = np.bincount(tenth, minlength=10)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean_said, mean_came = (
            np.bincount(tenth, values, 10) / np.where(cases, cases, np.nan) for values in (said, hit)
        )
    return Reliability(mean_said, mean_came, cases)


def inside_smile(parameters: FloatArray, band: float) -> FloatArray:
    """Chance that smiles give to ending within so many expected moves of the forward.

    Parameters
    ----------
    parameters
        Raw SVI in total variance, shape (..., 5).
    band
        Expected moves either way: forward (1 ± band s), s the root of the total variance at the forward.

    Returns
    -------
    Decimals, shape (...); NaN where the smile is missing. A band that reaches to zero or below has no lower end.
    """
    a, b, rho, m, sigma = np.moveaxis(parameters, -1, 0)

    def below(k: FloatArray) -> FloatArray:
        root = np.sqrt((k - m) ** 2 + sigma * sigma)
        with np.errstate(invalid="ignore", divide="ignore"):
            s = np.sqrt(a + b * (rho * (k - m) + root))
            d2 = -k / s - 0.5 * s
            density = np.exp(-0.5 * d2 * d2) / np.sqrt(2 * np.pi)
            chance = normal_cdfs(-d2) + density * b * (rho + (k - m) / root) / (2 * s)
        clipped: FloatArray = np.clip(chance, 0.0, 1.0)
        return clipped

    with np.errstate(invalid="ignore", divide="ignore"):
        move = np.sqrt(a + b * (np.sqrt(m * m + sigma * sigma) - rho * m))
        upper = below(np.log1p(band * move))
        lower = np.where(band * move < 1, below(np.log(np.maximum(1 - band * move, 1e-12))), 0.0)
    chance: FloatArray = np.where(np.isfinite(move), upper - lower, np.nan)
    return chance
