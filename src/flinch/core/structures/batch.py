"""Everything a search tells of its candidates, computed for all of them: compiled kernels, a candidate at a time."""

from __future__ import annotations

import math
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.interrupt import checkpoint
from flinch.core.structures.candidates import Block, Quotes
from flinch.core.structures.capital import requirement
from flinch.core.structures.ending import AWAY, MOST_CORNERS, Living, bounds, place_corners
from flinch.core.structures.judge import judge_one
from flinch.core.structures.outcomes import OPINIONS, Outcomes

_JUDGED = ("chance_of_profit", "chance_of_max_loss", "expected", "shortfall")
COLUMNS = (
    "mid", "natural", "cost", "max_profit", "max_loss", "capital", "breakeven_below", "breakeven_above", "breakevens",
    "delta", "gamma", "theta", "vega", "short_delta", "min_leg_open_interest", "min_leg_volume", "lowest_strike",
    "highest_strike", "width", "short_put", "short_call", "at_target",
    *[f"{judged}_{opinion}" for opinion in OPINIONS for judged in _JUDGED],
)  # fmt: skip
"""What is told of each candidate. Money in $ per unit; `cost` is what entry costs, below zero for a credit; `expected` is the
discounted payoff; chances are decimals; NaN where there is none, infinite where there is no bound."""
_AT = {key: place for place, key in enumerate(COLUMNS)}
_MOST_CORNERS = 8
_CHUNK = 4_096
Evaluated = dict[str, NDArray[np.float32]]


class Terms(NamedTuple):
    """Per expiration, shape (expirations,): time left in years, spot, forward and its discount factor, standard deviation of the
    logarithm at the forward, yield that makes spot grow to the forward, shares a contract stands for, price of the target (NaN:
    none), raw SVI (expirations, 5), continuously compounded rate (one number), and whether options are exercised early."""

    years: FloatArray
    spot: FloatArray
    forward: FloatArray
    discount: FloatArray
    deviation: FloatArray
    carry: FloatArray
    multiplier: FloatArray
    target: FloatArray
    parameters: FloatArray
    rate: float
    american: FloatArray


def evaluate_block(
    block: Block,
    quotes: Quotes,
    terms: Terms,
    opinions: tuple[Outcomes, Outcomes, Outcomes],
    *,
    entry: float = 0.3,
    remaining: Callable[[IntArray, IntArray], FloatArray] | None = None,
) -> Evaluated:
    """Every column of `COLUMNS` for the candidates of a block, shape (candidates,), single precision.

    Parameters
    ----------
    block
        One kind's candidates.
    quotes, terms
        The options and expirations they are made of.
    opinions
        `OPINIONS` of the price at each expiration.
    entry
        How far from mid to the worst side of every leg entry is, 0 to 1.
    remaining
        For kinds with a later leg: the variance that is left of later expirations when nearer ones end (`variance_left`).

    Notes
    -----
    A block of one expiration is exact: its payoff is linear between strikes. With a later leg the payoff at the first
    expiration is that of `ending_corners`.
    """
    kind, legs = block.kind, np.ascontiguousarray(block.legs)
    out = np.empty((len(COLUMNS), legs.shape[0]), np.float32)
    quantity = np.array([leg.quantity for leg in kind.legs], np.float64)
    later = np.array([leg.later for leg in kind.legs])
    columns = [np.ascontiguousarray(column) for column in quotes]
    log_strike = np.log(quotes.strike)
    tables = [part for outcomes in opinions for part in outcomes]
    shared: tuple[Any, ...] = (kind.shares, quantity, entry, *columns, log_strike, *terms, *tables)
    if later.any():
        assert remaining is not None
        near = quotes.expiration[legs[:, int(np.flatnonzero(~later)[0])]]
        far = quotes.expiration[legs[:, int(np.flatnonzero(later)[0])]]
        left = np.ascontiguousarray(remaining(near, far))

        def run(part: slice) -> None:
            rows = np.empty((legs[part].shape[0], len(COLUMNS)))
            _evaluate_later(legs[part], later, left[part], rows, *shared)
            out[:, part] = rows.T
    else:

        def run(part: slice) -> None:
            rows = np.empty((legs[part].shape[0], len(COLUMNS)))
            _evaluate_same(legs[part], rows, *shared)
            out[:, part] = rows.T

    parts = [slice(at, at + _CHUNK) for at in range(0, legs.shape[0], _CHUNK)]
    workers = os.cpu_count() or 1
    with ThreadPoolExecutor(workers) as pool:
        for at in range(0, len(parts), 4 * workers):
            checkpoint()
            list(pool.map(run, parts[at : at + 4 * workers]))
    return {key: out[place] for key, place in _AT.items()}


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _quoted(
    row: Any, shares: float, quantity: Any, entry: float, spot: float, multiplier: float,
    is_call: Any, strike: Any, bid: Any, ask: Any, delta: Any, gamma: Any, theta: Any, vega: Any, interest: Any, volume: Any,
    out: Any,
) -> float:  # fmt: skip
    """What follows from the legs' quotes alone, into the first columns of `out`; returns the cost of entry."""
    mid = natural = shares * spot
    d, g, t, v = shares, 0.0, 0.0, 0.0
    short, least, traded = 0.0, math.inf, math.inf
    low, high, put, call = math.inf, -math.inf, math.nan, math.nan
    for j in range(row.size):
        i, q = row[j], quantity[j]
        mid += q * 0.5 * (bid[i] + ask[i])
        natural += q * (ask[i] if q > 0.0 else bid[i])
        d += q * delta[i]
        g += q * gamma[i]
        t += q * theta[i]
        v += q * vega[i]
        least, traded = min(least, interest[i]), min(traded, volume[i])
        low, high = min(low, strike[i]), max(high, strike[i])
        if q < 0.0:
            short = max(short, abs(delta[i]))
            if is_call[i]:
                call = strike[i] if math.isnan(call) else min(call, strike[i])
            else:
                put = strike[i] if math.isnan(put) else max(put, strike[i])
    # Shares are had at their price: only the options have a wide market.
    cost = multiplier * (mid + entry * (natural - mid))
    out[0], out[1], out[2] = multiplier * mid, multiplier * natural, cost
    out[9], out[10], out[11], out[12] = multiplier * d, multiplier * g, multiplier * t, multiplier * v
    out[13] = short if short > 0.0 else math.nan
    out[14], out[15], out[16], out[17] = least, traded, low, high
    out[18] = multiplier * (high - low)
    out[19], out[20] = put, call
    return cost


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _shape(
    n: int, x: Any, y: Any, left: float, right: float, cost: float, spot: float, out: Any
) -> tuple[float, float]:  # fmt: skip
    """Greatest profit and loss, and the breakevens beside the spot, of a payoff with corners; the former two are returned."""
    floor = y[0] - left * x[0]
    max_profit, max_loss = bounds(n, x, y, left, right, cost)
    below, above, count = math.nan, math.nan, 0
    for j in range(n + 1):
        if j == 0:
            x0, y0, x1, y1 = 0.0, floor, x[0], y[0]
        elif j < n:
            x0, y0, x1, y1 = x[j - 1], y[j - 1], x[j], y[j]
        else:
            x0, y0 = x[n - 1], y[n - 1]
            x1, y1 = (2.0 * x0, y0 + right * x0) if right == 0.0 else (x0 + 1e12, y0 + right * 1e12)
        a, b = y0 - cost, y1 - cost
        if (a > 0.0) == (b > 0.0):
            continue
        at = x0 + (x1 - x0) * a / (a - b)
        count += 1
        if at <= spot:
            below = at
        elif math.isnan(above):
            above = at
    out[3], out[4], out[6], out[7], out[8] = max_profit, max_loss, below, above, count
    return max_profit, max_loss


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _payoff_at(price: float, n: int, x: Any, y: Any, left: float, right: float) -> float:
    if price <= x[0]:
        return float(y[0] - left * (x[0] - price))
    for j in range(1, n):
        if price <= x[j]:
            wide = x[j] - x[j - 1]
            return float(y[j - 1] + (y[j] - y[j - 1]) * (price - x[j - 1]) / wide) if wide > 0.0 else float(y[j])
    return float(y[n - 1] + right * (price - x[n - 1]))


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _needs(
    row: Any, shares: float, quantity: Any, is_call: Any, cost: float, spot: float, multiplier: float, max_loss: float, out: Any
) -> None:  # fmt: skip
    """Capital: the greatest loss, or what is asked for short calls that nothing covers."""
    if math.isfinite(max_loss):
        out[5] = -max_loss
        return
    calls, puts = -shares, 0.0
    for j in range(row.size):
        if is_call[row[j]]:
            calls -= quantity[j]
        else:
            puts -= quantity[j]
    out[5] = requirement(spot, calls, out[20], puts, out[19], -cost, multiplier)


@njit(cache=True, nogil=True, error_model="numpy")
def _tell(
    out: Any, told: Any, discount: float, yielded: float, cost: float, worst: float, n: int, x: Any, log_x: Any, y: Any, c: Any,
    p: Any, left: float, right: float, judged: Any, low0: float, step0: float, chance0: Any, part0: Any, low1: float,
    step1: float, chance1: Any, part1: Any, low2: float, step2: float, chance2: Any, part2: Any,
) -> None:  # fmt: skip
    """What is told of a candidate into its row: what was found of it, and what each opinion says."""
    for k in range(22):
        out[k] = told[k]
    judge_one(cost, worst, n, x, log_x, y, c, p, left, right, low0, step0, chance0, part0, judged)
    out[22:26] = judged
    judge_one(cost, worst, n, x, log_x, y, c, p, left, right, low1, step1, chance1, part1, judged)
    out[26:30] = judged
    judge_one(cost, worst, n, x, log_x, y, c, p, left, right, low2, step2, chance2, part2, judged)
    out[30:34] = judged
    for k in (24, 28, 32):
        out[k] = out[k] * discount + yielded


@njit(cache=True, nogil=True, error_model="numpy")
def _evaluate_same(
    legs: Any, out: Any, shares: float, quantity: Any, entry: float,
    expiration: Any, is_call: Any, strike: Any, bid: Any, ask: Any, delta: Any, gamma: Any, theta: Any, vega: Any,
    interest: Any, volume: Any, log_strike: Any,
    years: Any, spot: Any, forward: Any, discount: Any, deviation: Any, carry: Any, multiplier: Any, target: Any, svi: Any,
    rate: float, american: Any,
    low0: Any, step0: Any, chance0: Any, part0: Any, low1: Any, step1: Any, chance1: Any, part1: Any,
    low2: Any, step2: Any, chance2: Any, part2: Any,
) -> None:  # fmt: skip
    """Candidates whose legs all end together."""
    count, n = legs.shape
    x, log_x, y = np.empty(_MOST_CORNERS), np.empty(_MOST_CORNERS), np.empty(_MOST_CORNERS)
    c, p, told, judged = np.empty(_MOST_CORNERS), np.empty(_MOST_CORNERS), np.empty(22), np.empty(4)
    for i in range(count):
        row = legs[i]
        e = expiration[row[0]]
        m = multiplier[e]
        held = shares * m
        # What shares bring until then, which the forward is lower by.
        yielded = held * (spot[e] - forward[e] * discount[e])
        cost = _quoted(
            row, shares, quantity, entry, spot[e], m, is_call, strike, bid, ask, delta, gamma, theta, vega, interest, volume, told
        )  # fmt: skip
        left = right = held
        for j in range(n):
            x[j], log_x[j] = strike[row[j]], log_strike[row[j]]
            if is_call[row[j]]:
                right += m * quantity[j]
            else:
                left -= m * quantity[j]
        for k in range(n):
            worth = held * x[k]
            for j in range(n):
                away = x[k] - x[j]
                if is_call[row[j]] and away > 0.0:
                    worth += m * quantity[j] * away
                elif not is_call[row[j]] and away < 0.0:
                    worth -= m * quantity[j] * away
            y[k] = worth
        _, worst = _shape(n, x, y, left, right, cost, spot[e], told)
        _needs(row, shares, quantity, is_call, cost, spot[e], m, worst, told)
        told[21] = _payoff_at(target[e], n, x, y, left, right) - cost if target[e] > 0.0 else math.nan
        _tell(
            out[i], told, discount[e], yielded, cost, worst, n, x, log_x, y, c, p, left, right, judged,
            low0[e], step0[e], chance0[e], part0[e], low1[e], step1[e], chance1[e], part1[e], low2[e], step2[e], chance2[e],
            part2[e],
        )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def _evaluate_later(
    legs: Any, later: Any, left_variance: Any, out: Any, shares: float, quantity: Any, entry: float,
    expiration: Any, is_call: Any, strike: Any, bid: Any, ask: Any, delta: Any, gamma: Any, theta: Any, vega: Any,
    interest: Any, volume: Any, log_strike: Any,
    years: Any, spot: Any, forward: Any, discount: Any, deviation: Any, carry: Any, multiplier: Any, target: Any, svi: Any,
    rate: float, american: Any,
    low0: Any, step0: Any, chance0: Any, part0: Any, low1: Any, step1: Any, chance1: Any, part1: Any,
    low2: Any, step2: Any, chance2: Any, part2: Any,
) -> None:  # fmt: skip
    """Candidates with a later leg, judged at the nearer expiration."""
    count, n = legs.shape
    size = MOST_CORNERS + n
    x, log_x, y = np.empty(size), np.empty(size), np.empty(size)
    c, p, told, judged = np.empty(size), np.empty(size), np.empty(22), np.empty(4)
    of = Living(
        np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty((n, 5))
    )  # fmt: skip
    for i in range(count):
        row = legs[i]
        e = far = expiration[row[0]]
        for j in range(n):
            if later[j]:
                far = expiration[row[j]]
            else:
                e = expiration[row[j]]
        m = multiplier[e]
        held = shares * m
        # What shares bring until then, which the forward is lower by.
        yielded = held * (spot[e] - forward[e] * discount[e])
        cost = _quoted(
            row, shares, quantity, entry, spot[e], m, is_call, strike, bid, ask, delta, gamma, theta, vega, interest, volume, told
        )  # fmt: skip
        left_years = years[far] - years[e]
        for j in range(n):
            r = row[j]
            of.strike[j], of.log_strike[j] = strike[r], log_strike[r]
            of.is_call[j], of.contracts[j] = (1.0 if is_call[r] else 0.0), m * quantity[j]
            of.left_years[j] = left_years if later[j] else 0.0
            of.left_variance[j], of.far_years[j] = left_variance[i], years[far]
            of.carry[j] = (carry[far] * years[far] - carry[e] * years[e]) / left_years if left_years > 0.0 else 0.0
            of.svi[j, :] = svi[far]
        size, left, right = place_corners(
            AWAY, forward[e], deviation[e], held, of, rate, american[e] != 0.0, x, log_x, y
        )
        _, worst = _shape(size, x, y, left, right, cost, spot[e], told)
        _needs(row, shares, quantity, is_call, cost, spot[e], m, worst, told)
        told[21] = _payoff_at(target[e], size, x, y, left, right) - cost if target[e] > 0.0 else math.nan
        # A loss that is only approached counts as the greatest within a hundredth.
        most = worst * 0.99 if math.isfinite(worst) and worst < 0.0 else worst
        _tell(
            out[i], told, discount[e], yielded, cost, most, size, x, log_x, y, c, p, left, right, judged,
            low0[e], step0[e], chance0[e], part0[e], low1[e], step1[e], chance1[e], part1[e], low2[e], step2[e], chance2[e],
            part2[e],
        )  # fmt: skip
