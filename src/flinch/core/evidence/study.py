"""What followed a condition, beside what followed without it."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
from scipy.special import ndtri, stdtrit

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.rolling import rolling_max, rolling_min

MEASURES = ("mean", "up", "size", "beyond", "range")
"""Mean outcome, share above zero, mean size, share larger than one, mean range on the way."""
LEAST_DAYS = 30
"""Independent days from which on anything is said."""
REPLICATES = 1_000
_SEED = 20240229
_NAMES_AT_ONCE = 128


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
    # Some names after the other, so that what is worked with stays in the processor's cache.
    for first in range(0, close.shape[0], _NAMES_AT_ONCE):
        rows = slice(first, first + _NAMES_AT_ONCE)
        top, bottom = rolling_max(high[rows], horizon), rolling_min(low[rows], horizon)
        part = out[rows, :sessions]
        with np.errstate(invalid="ignore", divide="ignore"):
            np.subtract(top[:, horizon:], bottom[:, horizon:], out=part)
            part /= close[rows, :sessions] * expected[rows, :sessions]
        part[np.isinf(part)] = np.nan
    return out


def moves_from_open(open_: FloatArray, close: FloatArray, expected: FloatArray, horizon: int) -> FloatArray:
    """The same from the next session's open, the first price at which what a close tells can be traded; see `moves_ahead`."""
    out = np.full(close.shape, np.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        np.divide(close[:, horizon:], open_[:, 1 : close.shape[1] - horizon + 1], out=out[:, :-horizon])
        out -= 1
        out /= expected
    out[np.isinf(out)] = np.nan
    return out


@njit(cache=True, nogil=True)
def _collect(
    outcome: Any, ranges: Any, eligible: Any, fired: Any, rise: Any, block: int, sums: Any, by_name: Any, cells: Any
) -> None:
    """Sums of cases and of five measures by session (`sums`, shape (3, 6, sessions)): of those that fired, of the same bets on
    all names of the day, and of the same bets on the same names' other days. `rise` says which bets are on a rise.

    `by_name`, shape (3, 6, names), has those of each name: what fired, what fired less all names of its day, and its other days.
    `cells`, shape (2, 6), has the sums of squares of the first two over a name and a block of sessions. A name's other days count
    together as much as its days of firing.
    """
    names, sessions = outcome.shape
    # Of all names of a day: cases, their sum, rises, falls, sizes, how many were beyond one, ranges. No branch, so that many
    # sessions are summed at once.
    day = np.zeros((7, sessions))
    count, total, rises, falls, sizes, beyond, reached = day
    for i in range(names):
        for t in range(sessions):
            y, reach = outcome[i, t], ranges[i, t]
            known = eligible[i, t] & np.isfinite(y) & np.isfinite(reach)
            y = y if known else 0.0
            count[t] += 1.0 if known else 0.0
            total[t] += y
            rises[t] += 1.0 if y > 0.0 else 0.0
            falls[t] += 1.0 if y < 0.0 else 0.0
            sizes[t] += abs(y)
            beyond[t] += 1.0 if abs(y) > 1.0 else 0.0
            reached[t] += reach if known else 0.0
    measured, base, part = np.zeros(5), np.zeros(5), np.zeros((2, 6))
    bets = np.zeros((6, sessions))
    for i in range(names):
        up = down = others = 0
        for t in range(sessions):
            known = eligible[i, t] & np.isfinite(outcome[i, t]) & np.isfinite(ranges[i, t])
            up += known & fired[i, t] & rise[i, t]
            down += known & fired[i, t] & (not rise[i, t])
            others += known & (not fired[i, t])
        if up + down == 0:
            continue
        for first in range(0, sessions, block):
            part[:] = 0.0
            for t in range(first, min(first + block, sessions)):
                y = outcome[i, t]
                if not fired[i, t] or not eligible[i, t] or not (np.isfinite(y) and np.isfinite(ranges[i, t])):
                    continue
                sign = 1.0 if rise[i, t] else -1.0
                measured[0], measured[1] = sign * y, 1.0 if sign * y > 0.0 else 0.0
                measured[2], measured[3], measured[4] = abs(y), 1.0 if abs(y) > 1.0 else 0.0, ranges[i, t]
                base[0], base[1] = sign * total[t], rises[t] if sign > 0.0 else falls[t]
                base[2], base[3], base[4] = sizes[t], beyond[t], reached[t]
                sums[0, 0, t] += 1.0
                sums[1, 0, t] += 1.0
                part[0, 0] += 1.0
                part[1, 0] += 1.0
                for k in range(5):
                    same_day = base[k] / count[t]
                    sums[0, k + 1, t] += measured[k]
                    sums[1, k + 1, t] += same_day
                    part[0, k + 1] += measured[k]
                    part[1, k + 1] += measured[k] - same_day
            if part[0, 0] == 0.0:
                continue
            for group in range(2):
                n = part[group, 0]
                for k in range(6):
                    by_name[group, k, i] += part[group, k]
                    # About the mean the square is v^2 - 2 m v n + m^2 n^2: the three sums are kept.
                    cells[group, k, 0] += part[group, k] * part[group, k]
                    cells[group, k, 1] += part[group, k] * n
                    cells[group, k, 2] += n * n
        if others == 0:
            continue
        # The same bets, in their proportion, on each of the name's other days; again without a branch.
        of_up, of_down = up / others, down / others
        both, balance = of_up + of_down, of_up - of_down
        for t in range(sessions):
            y, reach = outcome[i, t], ranges[i, t]
            known = (not fired[i, t]) & eligible[i, t] & np.isfinite(y) & np.isfinite(reach)
            y = y if known else 0.0
            bets[0, t] = both if known else 0.0
            bets[1, t] = balance * y
            bets[2, t] = of_up if y > 0.0 else of_down if y < 0.0 else 0.0
            bets[3, t] = both * abs(y)
            bets[4, t] = both if abs(y) > 1.0 else 0.0
            bets[5, t] = both * reach if known else 0.0
        for k in range(6):
            for t in range(sessions):
                sums[2, k, t] += bets[k, t]
        cases = moved = right = size = wide = went = 0.0
        for t in range(sessions):
            cases += bets[0, t]
            moved += bets[1, t]
            right += bets[2, t]
            size += bets[3, t]
            wide += bets[4, t]
            went += bets[5, t]
        by_name[2, :, i] = (cases, moved, right, size, wide, went)


def independent_days(fired: BoolArray, horizon: int) -> int:
    """How many of the days, shape (sessions,), are at least `horizon` sessions after the one counted before."""
    count, last = 0, -horizon
    for day in np.flatnonzero(fired):
        if day - last >= horizon:
            count, last = count + 1, int(day)
    return count


@lru_cache(maxsize=6)
def draw_blocks(sessions: int, block: int) -> FloatArray:
    """How often each session is drawn in each replicate, shape (replicates, sessions); the same for every study of its kind.

    Circular blocks of `block` consecutive sessions (Politis & Romano 1992), so that outcomes that overlap stay together.
    """
    rng = np.random.default_rng(_SEED)
    count = -(-sessions // block)
    start = rng.integers(0, sessions, (REPLICATES, count))
    index: IntArray = (start[:, :, None] + np.arange(block)).reshape(REPLICATES, -1)[:, :sessions] % sessions
    flat = index + np.arange(REPLICATES)[:, None] * sessions
    drawn = np.bincount(flat.reshape(-1), minlength=REPLICATES * sessions)
    out = drawn.reshape(REPLICATES, sessions).astype(np.float64)
    out.flags.writeable = False
    return out


def study(
    outcome: FloatArray,
    eligible: BoolArray,
    fired: BoolArray,
    *,
    horizon: int,
    looks: int,
    ranges: FloatArray | None = None,
    side: FloatArray | None = None,
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
    side
        The side of the bet, above zero on a rise and below zero on a fall, same shape; a case without one is left out. All on a
        rise when not given. The base rates place the same bets: on all names of the day, and on the same names' other days.

    Returns
    -------
    `Study`.

    Notes
    -----
    Sessions and names are both drawn: the variance of circular blocks of sessions (names that fire on one day are one draw, and
    neighbouring days stay together) plus that of names, less that of names within blocks, which both hold (Cameron, Gelbach &
    Miller 2011, Journal of Business & Economic Statistics 29(2)). Intervals are the block bootstrap's, widened in that
    proportion and by Student's t for the smaller number of blocks or of names, each name weighed by its cases. Days count as
    independent when their outcomes do not overlap.
    """
    names, sessions = outcome.shape
    block = min(max(2 * horizon, 5), sessions)
    counted = fired & eligible
    if side is None:
        sides = np.ones((1, 1))
    else:
        counted = counted & (np.isfinite(side) & (side != 0))
        sides = side
    reached = np.zeros_like(outcome) if ranges is None else ranges
    sums, by_name, cells = np.zeros((3, 6, sessions)), np.zeros((3, 6, names)), np.zeros((2, 6, 3))
    _collect(
        outcome,
        reached,
        eligible,
        counted,
        np.ascontiguousarray(np.broadcast_to(sides > 0, outcome.shape)),
        block,
        sums,
        by_name,
        cells,
    )
    # One product for all sums: cases and measures of the three groups.
    replicates = (draw_blocks(sessions, block) @ sums.reshape(18, sessions).T).reshape(REPLICATES, 3, 6)
    # The others' names are drawn as those that fired are.
    excess = np.stack([by_name[0], by_name[1], by_name[2], by_name[0] - by_name[2]])
    excess[3, 0] = by_name[0, 0]
    n = by_name[0, 0]
    effective = float(n.sum() ** 2 / np.square(n).sum()) if n.any() else 0.0
    freedom = max(min(effective, sessions / block) - 1, 1.0)

    def two_way(place: int, group: int, cell: int | None, value: float, replicates: FloatArray) -> float:
        """How much wider names make the blocks' spread."""
        known = replicates[np.isfinite(replicates)]
        total = float(excess[group, 0].sum())
        by_session = float(np.var(known)) if known.size else 0.0
        if not by_session > 0 or not total > 0 or not np.isfinite(value):
            return 1.0
        of_names = float(np.square(excess[group, place] - value * excess[group, 0]).sum()) / total**2
        of_cells = 0.0
        if cell is not None:
            square, cross, count = cells[cell, place]
            of_cells = float(square - 2 * value * cross + value * value * count) / total**2
        return float(np.sqrt(1 + max(of_names - of_cells, 0.0) / by_session))

    found: dict[str, Compared] = {}
    for place, measure in enumerate(MEASURES if ranges is not None else MEASURES[:-1], start=1):
        parts = [_means(sums[group], replicates[:, group], place) for group in range(3)]
        against = [(parts[0][0] - part[0], parts[0][1] - part[1]) for part in parts[1:]]
        wider = [
            two_way(place, 0, 0, *parts[0]),
            1.0,
            two_way(place, 2, None, *parts[2]),
            two_way(place, 1, 1, *against[0]),
            two_way(place, 3, None, *against[1]),
        ]
        figures = [_estimate(*part, width, freedom) for part, width in zip((*parts, *against), wider, strict=True)]
        found[measure] = Compared(_differs(*against[0], wider[3], freedom, looks), *figures)
    days = sums[0, 0] > 0
    return Study(horizon, int(sums[0, 0].sum()), int(days.sum()), independent_days(days, horizon), found)


def _means(sums: FloatArray, drawn: FloatArray, place: int) -> tuple[float, FloatArray]:
    with np.errstate(invalid="ignore", divide="ignore"):
        value = float(sums[place].sum() / sums[0].sum()) if sums[0].sum() > 0 else float("nan")
        replicates: FloatArray = drawn[:, place] / drawn[:, 0]
    return value, replicates


def _estimate(value: float, replicates: FloatArray, width: float, freedom: float) -> Estimate:
    known = replicates[np.isfinite(replicates)]
    if not np.isfinite(value) or known.size < REPLICATES // 2:
        return Estimate(value, float("nan"), float("nan"))
    width *= float(stdtrit(freedom, 0.975) / ndtri(0.975))
    low, high = value + width * (np.percentile(known, [2.5, 97.5]) - value)
    return Estimate(value, float(low), float(high))


def _differs(value: float, replicates: FloatArray, width: float, freedom: float, looks: int) -> bool:
    """Whether a difference lies further from zero than 95 % of all looks' would by chance."""
    known = replicates[np.isfinite(replicates)]
    if known.size < REPLICATES // 2 or not np.isfinite(value):
        return False
    reach = width * float(np.std(known)) * float(stdtrit(freedom, 1 - 0.025 / looks))
    return abs(value) > reach
