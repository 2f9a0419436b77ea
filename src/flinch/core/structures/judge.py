"""What a distribution makes of a payoff: compiled kernels over corners of a payoff and tables of outcomes."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.compiled import njit
from flinch.core.structures.outcomes import Outcomes

WORST = 0.05
"""Share of the worst outcomes whose mean is the shortfall."""
_STEPS, _FEW, _NEAR = 24, 8, 2e-5


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def below(log_price: float, low: float, step: float, chance: Any, part: Any) -> tuple[float, float]:
    """Chance of ending at or below a price, and the part of the mean that comes from there."""
    place = (log_price - low) / step
    last = chance.size - 1
    if place <= 0.0:
        return 0.0, 0.0
    if place >= last:
        return chance[last], part[last]
    i = int(place)
    u = place - i
    return chance[i] + u * (chance[i + 1] - chance[i]), part[i] + u * (part[i + 1] - part[i])


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _segment(
    x0: float, y0: float, c0: float, p0: float, slope: float, x1: float, y1: float, c1: float, p1: float,
    level: float, low: float, step: float, chance: Any, part: Any,
) -> tuple[float, float]:  # fmt: skip
    """Of one stretch of a payoff: the chance of ending in it with at most `level`, and the payoff's part of the mean from
    there."""
    if y0 <= level and y1 <= level:
        return c1 - c0, y0 * (c1 - c0) + slope * ((p1 - p0) - x0 * (c1 - c0))
    if y0 > level and y1 > level:
        return 0.0, 0.0
    at = x0 + (level - y0) / slope
    c, p = below(math.log(at) if at > 0.0 else -1e300, low, step, chance, part)
    c, p = min(max(c, c0), c1), min(max(p, p0), p1)
    if y0 <= level:
        return c - c0, y0 * (c - c0) + slope * ((p - p0) - x0 * (c - c0))
    return c1 - c, level * (c1 - c) + slope * ((p1 - p) - at * (c1 - c))


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def at_most(
    level: float, n: int, x: Any, y: Any, c: Any, p: Any, left: float, right: float,
    low: float, step: float, chance: Any, part: Any,
) -> tuple[float, float]:  # fmt: skip
    """Chance that a payoff is at most `level`, and its part of the mean from there.

    The payoff has corners (x, y), `n` of them ascending, slope `left` from price zero to the first and `right` beyond the last;
    `c` and `p` are `below` at the corners.
    """
    last = chance.size - 1
    mass, worth = _segment(
        0.0, y[0] - left * x[0], 0.0, 0.0, left, x[0], y[0], c[0], p[0], level, low, step, chance, part
    )
    for j in range(n - 1):
        wide = x[j + 1] - x[j]
        if wide > 0.0:
            slope = (y[j + 1] - y[j]) / wide
            m, w = _segment(
                x[j], y[j], c[j], p[j], slope, x[j + 1], y[j + 1], c[j + 1], p[j + 1], level, low, step, chance, part
            )
            mass += m
            worth += w
    # The last stretch has no end: far enough out it is beyond every level that its slope leads to.
    end = 1e300 if right > 0.0 else (-1e300 if right < 0.0 else y[n - 1])
    m, w = _segment(
        x[n - 1],
        y[n - 1],
        c[n - 1],
        p[n - 1],
        right,
        1e300,
        end,
        chance[last],
        part[last],
        level,
        low,
        step,
        chance,
        part,
    )
    return mass + m, worth + w


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def judge_one(
    cost: float, worst: float, n: int, x: Any, log_x: Any, y: Any, c: Any, p: Any, left: float, right: float,
    low: float, step: float, chance: Any, part: Any, out: Any,
) -> None:  # fmt: skip
    """Chance of profit, chance of the greatest loss (`worst`, below zero; NaN when unbounded), expected payoff and shortfall
    (mean profit of the worst `WORST` of outcomes) into `out`, shape (4,). `log_x` are the corners' logarithms; workspace `c`,
    `p`: `n` numbers each."""
    if not (math.isfinite(cost) and math.isfinite(low)):
        out[:] = math.nan
        return
    last = chance.size - 1
    for j in range(n):
        c[j], p[j] = below(log_x[j], low, step, chance, part)
    top = low + step * last
    y_top = y[n - 1] + right * (max(math.exp(top), x[n - 1]) - x[n - 1])
    lowest, highest = min(y[0] - left * x[0], y_top), max(y[0] - left * x[0], y_top)
    for j in range(n):
        lowest, highest = min(lowest, y[j]), max(highest, y[j])
    mass, _ = at_most(cost, n, x, y, c, p, left, right, low, step, chance, part)
    out[0] = 1.0 - mass
    if math.isfinite(worst):
        mass, _ = at_most(cost + worst + 1e-9 * (1.0 + abs(worst)), n, x, y, c, p, left, right, low, step, chance, part)
        out[1] = mass
    else:
        out[1] = math.nan
    _, out[2] = at_most(1e300, n, x, y, c, p, left, right, low, step, chance, part)
    # The level that the worst outcomes stay under; at it the mean no longer depends on it (Rockafellar & Uryasev 2000).
    under, over = lowest, highest
    mass, worth = at_most(under, n, x, y, c, p, left, right, low, step, chance, part)
    if mass >= WORST:
        out[3] = under - cost
        return
    # Between the corners' levels the chance grows without a jump; of many corners hardly any has one.
    for j in range(n if n <= _FEW else 0):
        if under < y[j] < over:
            m, w = at_most(y[j], n, x, y, c, p, left, right, low, step, chance, part)
            if m >= WORST:
                over = y[j]
            else:
                under, mass, worth = y[j], m, w
    m, w = at_most(over - 1e-9 * (highest - lowest), n, x, y, c, p, left, right, low, step, chance, part)
    if m < WORST:
        # It is in the jump.
        out[3] = (w + (WORST - m) * over) / WORST - cost
        return
    short, beyond, side = mass - WORST, m - WORST, 0
    for _ in range(_STEPS):
        # False position that halves an end which stays (Dowell & Jarratt 1971).
        level = (under * beyond - over * short) / (beyond - short)
        if not under < level < over:
            level = 0.5 * (under + over)
        m, w = at_most(level, n, x, y, c, p, left, right, low, step, chance, part)
        if abs(m - WORST) <= _NEAR:
            under, mass, worth = level, m, w
            break
        if m > WORST:
            over, beyond = level, m - WORST
            short *= 0.5 if side > 0 else 1.0
            side = 1
        else:
            under, short, mass, worth = level, m - WORST, m, w
            beyond *= 0.5 if side < 0 else 1.0
            side = -1
    out[3] = (worth + (WORST - mass) * under) / WORST - cost


class Verdict(NamedTuple):
    """What an opinion says of a structure: chances as decimals; `expected` payoff at the expiration and `shortfall` (mean
    profit in the worst twentieth of outcomes, below zero for a loss) in $ per unit. NaN where it says nothing."""

    chance_of_profit: float
    chance_of_max_loss: float
    expected: float
    shortfall: float


def verdict(
    outcomes: Outcomes,
    expiration: int,
    x: FloatArray,
    y: FloatArray,
    *,
    left: float,
    right: float,
    cost: float,
    worst: float,
) -> Verdict:
    """Judge a payoff that is linear between corners.

    Parameters
    ----------
    outcomes, expiration
        The opinion, and which of its expirations.
    x, y
        Corners: prices above zero, ascending, and the payoff in $ there; shape (corners,).
    left, right
        Slope below the first corner and above the last.
    cost
        What a unit costs in $, below zero for a credit.
    worst
        Greatest loss (below zero), as `extremes`; -inf when unbounded.
    """
    out, c, p = np.empty(4), np.empty(x.size), np.empty(x.size)
    table = (
        float(outcomes.low[expiration]),
        float(outcomes.step[expiration]),
        outcomes.chance[expiration],
        outcomes.part[expiration],
    )
    judge_one(cost, worst, x.size, x, np.log(x), y, c, p, left, right, *table, out)
    return Verdict(*out.tolist())
