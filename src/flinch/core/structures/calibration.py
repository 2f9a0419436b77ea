"""Whether chances that were said came true."""

from __future__ import annotations

import math
import os
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

import numpy as np
from scipy.special import stdtr

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.pricing.normal import normal_cdfs
from flinch.core.structures.outcomes import LEAST_RETURNS, smile_chance, variance_at_forward

BANDS = (0.5, 0.75, 1.0, 1.25, 1.5, 1.75, 2.0)
"""Distances in expected moves within which price may end."""
LEAST_CASES = 30


_DRAWS, _BLOCK = 2_000, 5
_TAIL = 0.025 / 3
"""Of an interval that allows for choosing among three opinions."""


class Lead(NamedTuple):
    """Which opinion came nearest (`None`: none nearer than chance explains), and by how much its Brier score is less than that of
    the next one, with a 95 % interval that allows for having chosen; NaN with nothing to compare."""

    nearest: int | None
    lead: float
    low: float
    high: float


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


def lead_of(said: FloatArray, came: BoolArray, session: IntArray) -> Lead:
    """Which opinion came nearest, and whether that is more than chance.

    Parameters
    ----------
    said
        Chances, decimals, shape (opinions, cases, bands); cases in which one is missing are left out.
    came
        Shape (cases, bands).
    session
        When each case was looked at, an index, shape (cases,). Cases of sessions near each other are about the same days.

    Returns
    -------
    `Lead`. An opinion is named when its lead over each other one is above zero in the interval.

    Notes
    -----
    Stretches of five looked-at sessions are drawn with what they hold (circular block bootstrap, Politis & Romano 1992), 2,000
    times, with a fixed seed; each interval leaves out 0.025 / 3 on either side (Bonferroni).
    """
    known = np.isfinite(said).all(axis=(0, 2))
    losses = ((said[:, known] - came[known]) ** 2).mean(axis=2)
    nothing = Lead(None, float("nan"), float("nan"), float("nan"))
    if losses.shape[1] < LEAST_CASES:
        return nothing
    days, of = np.unique(session[known], return_inverse=True)
    count = np.bincount(of, minlength=days.size).astype(np.float64)
    sums = np.array([np.bincount(of, loss, days.size) for loss in losses])
    scores = losses.mean(axis=1)
    best, *others = np.argsort(scores).tolist()
    if days.size < 2 * _BLOCK:
        return nothing._replace(lead=float(scores[others[0]] - scores[best]))
    rng = np.random.default_rng(20)
    blocks = -(-days.size // _BLOCK)
    first = rng.integers(0, days.size, (_DRAWS, blocks, 1))
    drawn = ((first + np.arange(_BLOCK)) % days.size).reshape(_DRAWS, -1)
    cases = count[drawn].sum(axis=1)
    ranges = []
    for other in others:
        lead = (sums[other] - sums[best])[drawn].sum(axis=1) / cases
        ranges.append(np.quantile(lead, [_TAIL, 1 - _TAIL]).tolist())
    sure = all(low > 0 for low, _ in ranges)
    return Lead(best if sure else None, float(scores[others[0]] - scores[best]), *ranges[0])


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

    def below(k: FloatArray) -> FloatArray:
        _, d2, lean = smile_chance(parameters, k)
        clipped: FloatArray = np.clip(normal_cdfs(-d2) + lean, 0.0, 1.0)
        return clipped

    with np.errstate(invalid="ignore", divide="ignore"):
        move = np.sqrt(variance_at_forward(parameters))
        upper = below(np.log1p(band * move))
        lower = np.where(band * move < 1, below(np.log(np.maximum(1 - band * move, 1e-12))), 0.0)
    chance: FloatArray = np.where(np.isfinite(move), upper - lower, np.nan)
    return chance


def inside_student(deviation: FloatArray, tail: FloatArray, move: FloatArray, band: float) -> FloatArray:
    """Chance that Student's distribution gives to ending within so many expected moves of the forward.

    `deviation` and `tail` as for `forecast_outcomes`, `move` the expected move as a decimal of the forward; any one shape. NaN
    where one is missing. The middle of the distribution is at the forward: what its mean is moved by is far less than a band.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        scale = deviation * np.sqrt((tail - 2) / tail)
        upper = stdtr(tail, np.log1p(band * move) / scale)
        low = np.log(np.maximum(1 - band * move, 1e-12))
        lower = np.where(band * move < 1, stdtr(tail, low / scale), 0.0)
        found: FloatArray = np.where(np.isfinite(deviation * move), upper - lower, np.nan)
        return found


def inside_past(
    log_close: FloatArray, name: IntArray, session: IntArray, ahead: IntArray, move: FloatArray
) -> FloatArray:
    """Share of a name's own past that ended within each of `BANDS` expected moves, as it was known in a session.

    Parameters
    ----------
    log_close
        Logarithms of closes, names x sessions; NaN where missing.
    name, session, ahead
        Of each case: row, the session that it is looked at in, and how many sessions ahead; shape (cases,).
    move
        Expected move of each case as a decimal, shape (cases,).

    Returns
    -------
    Decimals, shape (cases, bands). Only stretches that had ended by the session count, each over the mean of all of them (as
    `past_outcomes`); NaN with fewer than 60.
    """
    out = np.full((name.size, len(BANDS)), np.nan)
    closes = np.ascontiguousarray(log_close, dtype=np.float64)
    bands = np.array(BANDS)

    def part(first: int, last: int) -> None:
        cut = slice(first, last)
        _inside_past(closes, name[cut], session[cut], ahead[cut], move[cut], bands, out[cut])

    edges = np.linspace(0, name.size, 2 * (os.cpu_count() or 1) + 1).astype(np.int64).tolist()
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for _ in pool.map(part, edges[:-1], edges[1:]):
            pass
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def _inside_past(closes: Any, name: Any, session: Any, ahead: Any, move: Any, bands: Any, out: Any) -> None:
    kept = np.empty(closes.shape[1])
    for i in range(name.size):
        row, h, count, total = closes[name[i]], ahead[i], 0, 0.0
        for t in range(h, session[i] + 1):
            step = row[t] - row[t - h]
            if math.isfinite(step):
                kept[count] = math.exp(step)
                total += kept[count]
                count += 1
        if count < LEAST_RETURNS or not math.isfinite(move[i]):
            continue
        mean = total / count
        for k in range(bands.size):
            hits, wide = 0, bands[k] * move[i]
            for j in range(count):
                if abs(kept[j] / mean - 1.0) <= wide:
                    hits += 1
            out[i, k] = hits / count
