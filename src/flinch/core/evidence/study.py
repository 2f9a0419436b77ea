"""What followed a condition, beside what followed without it."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numba import njit
from numpy.lib.stride_tricks import sliding_window_view

from flinch.core.arrays import BoolArray, FloatArray, IntArray

MEASURES = ("mean", "up", "size", "beyond", "range")
"""Mean outcome, share above zero, mean size, share larger than one, mean range on the way."""
LEAST_DAYS = 30
"""Independent days from which on anything is said."""
REPLICATES = 1_000
_SEED = 20240229


class Estimate(NamedTuple):
    """A figure with its 95 % interval from the block bootstrap; NaN without data."""

    value: float
    low: float
    high: float


class Compared(NamedTuple):
    """One measure of the outcome after the condition, its base rates, and its difference from each.

    `same_days` is all names on the days on which it fired, each day weighted by how often; `other_days` the same names on other
    days. `sure` is whether the difference from the names of the same days differs from zero after allowing for `looks`.
    """

    sure: bool
    fired: Estimate
    same_days: Estimate
    other_days: Estimate
    against_days: Estimate
    against_names: Estimate


class Study(NamedTuple):
    """What followed within one horizon.

    `cases` have an outcome, on `days` different sessions, `independent` of which are at least a horizon apart. `measures` is by
    `MEASURES`; the range is there when ranges were given.
    """

    horizon: int
    cases: int
    days: int
    independent: int
    measures: dict[str, Compared]


def moves_ahead(close: FloatArray, expected: FloatArray, horizon: int) -> FloatArray:
    """Return over the next `horizon` sessions in units of the move that was expected for them.

    Parameters
    ----------
    close
        Shape (names, sessions), price units.
    expected
        One standard deviation over the horizon as priced at each session, a decimal, same shape.
    horizon
        Sessions, at least 1.

    Returns
    -------
    Same shape; NaN where the session so far ahead is not there, or anything is missing.
    """
    out = np.full(close.shape, np.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        np.divide(close[:, horizon:], close[:, :-horizon], out=out[:, :-horizon])
        out -= 1
        out /= expected
    out[np.isinf(out)] = np.nan
    return out


def ranges_ahead(
    high: FloatArray, low: FloatArray, close: FloatArray, expected: FloatArray, horizon: int
) -> FloatArray:
    """Distance from the lowest to the highest price of the next `horizon` sessions in units of the move that was expected.

    Parameters
    ----------
    high, low, close
        Shape (names, sessions), price units.
    expected
        One standard deviation over the horizon as priced at each session, a decimal of the close, same shape.
    horizon
        Sessions, at least 1.

    Returns
    -------
    Same shape; NaN where the session so far ahead is not there, or anything is missing. A driftless walk has about 1.6.
    """
    out = np.full(close.shape, np.nan)
    sessions = close.shape[1] - horizon
    if sessions < 1:
        return out
    top = sliding_window_view(high[:, 1:], horizon, axis=1)[:, :sessions].max(axis=2)
    bottom = sliding_window_view(low[:, 1:], horizon, axis=1)[:, :sessions].min(axis=2)
    with np.errstate(invalid="ignore", divide="ignore"):
        out[:, :sessions] = (top - bottom) / (close * expected)[:, :sessions]
    out[np.isinf(out)] = np.nan
    return out


@njit(cache=True, nogil=True)
def _collect(outcome: Any, ranges: Any, eligible: Any, fired: Any, sums: Any) -> None:
    """Per session: cases and the sums of five measures, of those that fired, of all, and of the same names when they did not.

    `sums` has shape (3, 6, sessions). A name's other days count together as much as its days of firing.
    """
    names, sessions = outcome.shape
    for i in range(names):
        hits = others = 0
        for t in range(sessions):
            if eligible[i, t] and np.isfinite(outcome[i, t]):
                if fired[i, t]:
                    hits += 1
                else:
                    others += 1
        weight = hits / others if others > 0 else 0.0
        for t in range(sessions):
            y = outcome[i, t]
            if not eligible[i, t] or not np.isfinite(y):
                continue
            up, size = (1.0 if y > 0 else 0.0), abs(y)
            beyond = 1.0 if size > 1 else 0.0
            for group in range(3):
                if group == 0 and not fired[i, t]:
                    continue
                if group == 2 and (fired[i, t] or weight == 0.0):
                    continue
                w = weight if group == 2 else 1.0
                sums[group, 0, t] += w
                sums[group, 1, t] += w * y
                sums[group, 2, t] += w * up
                sums[group, 3, t] += w * size
                sums[group, 4, t] += w * beyond
                sums[group, 5, t] += w * ranges[i, t]


def independent_days(fired: BoolArray, horizon: int) -> int:
    """How many of the days, shape (sessions,), are at least `horizon` sessions after the one counted before."""
    count, last = 0, -horizon
    for day in np.flatnonzero(fired):
        if day - last >= horizon:
            count, last = count + 1, int(day)
    return count


def draw_blocks(sessions: int, block: int) -> FloatArray:
    """How often each session is drawn in each replicate, shape (replicates, sessions).

    Circular blocks of `block` consecutive sessions (Politis & Romano 1992), so that outcomes that overlap stay together.
    """
    rng = np.random.default_rng(_SEED)
    count = -(-sessions // block)
    start = rng.integers(0, sessions, (REPLICATES, count))
    index: IntArray = (start[:, :, None] + np.arange(block)).reshape(REPLICATES, -1)[:, :sessions] % sessions
    flat = index + np.arange(REPLICATES)[:, None] * sessions
    drawn = np.bincount(flat.reshape(-1), minlength=REPLICATES * sessions)
    return drawn.reshape(REPLICATES, sessions).astype(np.float64)


def study(
    outcome: FloatArray,
    eligible: BoolArray,
    fired: BoolArray,
    *,
    horizon: int,
    looks: int,
    ranges: FloatArray | None = None,
) -> Study:
    """Compare what followed a condition with its base rates.

    Parameters
    ----------
    outcome
        What followed each name and session, shape (names, sessions); NaN where it is not known.
    eligible
        Names that could have fired then, same shape: the universe as of each session.
    fired
        Where the condition held; cases outside `eligible` are left out.
    horizon
        Sessions that an outcome spans; the bootstrap's blocks are twice as long.
    looks
        How many differences are looked at together: `sure` is at 95 % for all of them (Bonferroni).
    ranges
        How far each went on the way, shape of `outcome`; cases without one are left out.

    Returns
    -------
    `Study`.

    Notes
    -----
    Intervals are percentiles over circular blocks of sessions: names that fire on one day are one draw, and neighbouring days
    stay together. Days count as independent when their outcomes do not overlap.
    """
    sessions = outcome.shape[1]
    sums = np.zeros((3, 6, sessions))
    if ranges is None:
        _collect(outcome, np.zeros_like(outcome), eligible, fired & eligible, sums)
    else:
        _collect(np.where(np.isfinite(ranges), outcome, np.nan), ranges, eligible, fired & eligible, sums)
    hits, everyone, others = sums
    with np.errstate(invalid="ignore", divide="ignore"):
        # All names of a day count as often as the condition fired on it.
        everyone = np.where(everyone[0] > 0, everyone * (hits[0] / np.where(everyone[0] > 0, everyone[0], 1.0)), 0.0)
    drawn = draw_blocks(sessions, min(max(2 * horizon, 5), sessions))
    found: dict[str, Compared] = {}
    for place, measure in enumerate(MEASURES if ranges is not None else MEASURES[:-1], start=1):
        parts = [_means(group, place, drawn) for group in (hits, everyone, others)]
        against = [(parts[0][0] - part[0], parts[0][1] - part[1]) for part in parts[1:]]
        found[measure] = Compared(_differs(against[0][1], looks), *[_estimate(*part) for part in (*parts, *against)])
    days = hits[0] > 0
    return Study(horizon, int(hits[0].sum()), int(days.sum()), independent_days(days, horizon), found)


def _means(sums: FloatArray, place: int, drawn: FloatArray) -> tuple[float, FloatArray]:
    with np.errstate(invalid="ignore", divide="ignore"):
        value = float(sums[place].sum() / sums[0].sum()) if sums[0].sum() > 0 else float("nan")
        replicates: FloatArray = (drawn @ sums[place]) / (drawn @ sums[0])
    return value, replicates


def _estimate(value: float, replicates: FloatArray) -> Estimate:
    known = replicates[np.isfinite(replicates)]
    if not np.isfinite(value) or known.size < REPLICATES // 2:
        return Estimate(value, float("nan"), float("nan"))
    low, high = np.percentile(known, [2.5, 97.5])
    return Estimate(value, float(low), float(high))


def _differs(replicates: FloatArray, looks: int) -> bool:
    known = replicates[np.isfinite(replicates)]
    if known.size < REPLICATES // 2:
        return False
    tail = 2.5 / looks
    low, high = np.percentile(known, [tail, 100 - tail])
    return bool(low > 0 or high < 0)
