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
_JUDGES, _EXPECTED = len(_JUDGED), _JUDGED.index("expected")
_FOUND = len(COLUMNS) - _JUDGES * len(OPINIONS)
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
    made = _Made(
        float(kind.shares),
        np.array([leg.quantity for leg in kind.legs], np.float64),
        np.array([leg.later for leg in kind.legs]),
        float(entry),
    )
    whole = Quotes._make(map(np.ascontiguousarray, quotes))
    log_strike = np.log(quotes.strike)
    # One kind of record for the compiler, whatever the arrays came from.
    told = tuple(Outcomes._make(map(np.ascontiguousarray, one)) for one in opinions)
    if made.later.any():
        assert remaining is not None
        near = quotes.expiration[legs[:, int(np.flatnonzero(~made.later)[0])]]
        far = quotes.expiration[legs[:, int(np.flatnonzero(made.later)[0])]]
        left = np.ascontiguousarray(remaining(near, far))

        def run(part: slice) -> None:
            rows = np.empty((legs[part].shape[0], len(COLUMNS)))
            _evaluate_later(legs[part], left[part], made, whole, log_strike, terms, told, rows)
            out[:, part] = rows.T
    else:

        def run(part: slice) -> None:
            rows = np.empty((legs[part].shape[0], len(COLUMNS)))
            _evaluate_same(legs[part], made, whole, log_strike, terms, told, rows)
            out[:, part] = rows.T

    parts = [slice(at, at + _CHUNK) for at in range(0, legs.shape[0], _CHUNK)]
    workers = os.cpu_count() or 1
    with ThreadPoolExecutor(workers) as pool:
        for at in range(0, len(parts), 4 * workers):
            checkpoint()
            list(pool.map(run, parts[at : at + 4 * workers]))
    return {key: out[place] for key, place in _AT.items()}


class _Made(NamedTuple):
    """How candidates are made: shares held, contracts of each leg, whether it is the later one, and how far from mid entry is."""

    shares: float
    quantity: FloatArray
    later: NDArray[np.bool_]
    entry: float


class _Corners(NamedTuple):
    """A payoff's corners while it is judged, shape (corners,): price, its logarithm, payoff, and what an opinion says up to each
    (chance, part of the mean); only the first few of them are those of the candidate at hand."""

    x: FloatArray
    log_x: FloatArray
    y: FloatArray
    chance: FloatArray
    part: FloatArray


(
    _MID, _NATURAL, _COST, _MAX_PROFIT, _MAX_LOSS, _CAPITAL, _BELOW, _ABOVE, _BREAKEVENS, _DELTA, _GAMMA, _THETA, _VEGA,
    _SHORT_DELTA, _INTEREST, _VOLUME, _LOWEST, _HIGHEST, _WIDTH, _SHORT_PUT, _SHORT_CALL, _AT_TARGET,
) = range(_FOUND)  # fmt: skip
"""Places in `COLUMNS` of what is found of a candidate before opinions are asked."""


@njit(cache=True, nogil=True)
def _room(size: int) -> _Corners:
    return _Corners(np.empty(size), np.empty(size), np.empty(size), np.empty(size), np.empty(size))


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _quoted(row: Any, made: _Made, spot: float, multiplier: float, quotes: Quotes, found: Any) -> float:
    """What follows from the legs' quotes alone, into `found`; returns the cost of entry."""
    mid = natural = made.shares * spot
    d, g, t, v = made.shares, 0.0, 0.0, 0.0
    short, least, traded = 0.0, math.inf, math.inf
    low, high, put, call = math.inf, -math.inf, math.nan, math.nan
    for j in range(row.size):
        i, q = row[j], made.quantity[j]
        mid += q * 0.5 * (quotes.bid[i] + quotes.ask[i])
        natural += q * (quotes.ask[i] if q > 0.0 else quotes.bid[i])
        d += q * quotes.delta[i]
        g += q * quotes.gamma[i]
        t += q * quotes.theta[i]
        v += q * quotes.vega[i]
        least, traded = min(least, quotes.open_interest[i]), min(traded, quotes.volume[i])
        strike = quotes.strike[i]
        low, high = min(low, strike), max(high, strike)
        if q < 0.0:
            short = max(short, abs(quotes.delta[i]))
            if quotes.is_call[i]:
                call = strike if math.isnan(call) else min(call, strike)
            else:
                put = strike if math.isnan(put) else max(put, strike)
    # Shares are had at their price: only the options have a wide market.
    cost = multiplier * (mid + made.entry * (natural - mid))
    found[_MID], found[_NATURAL], found[_COST] = multiplier * mid, multiplier * natural, cost
    found[_DELTA], found[_GAMMA] = multiplier * d, multiplier * g
    found[_THETA], found[_VEGA] = multiplier * t, multiplier * v
    found[_SHORT_DELTA] = short if short > 0.0 else math.nan
    found[_INTEREST], found[_VOLUME], found[_LOWEST], found[_HIGHEST] = least, traded, low, high
    found[_WIDTH] = multiplier * (high - low)
    found[_SHORT_PUT], found[_SHORT_CALL] = put, call
    return cost


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _shape(
    n: int, x: Any, y: Any, left: float, right: float, cost: float, spot: float, found: Any
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
    found[_MAX_PROFIT], found[_MAX_LOSS] = max_profit, max_loss
    found[_BELOW], found[_ABOVE], found[_BREAKEVENS] = below, above, count
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
    row: Any, made: _Made, is_call: Any, cost: float, spot: float, multiplier: float, max_loss: float, found: Any
) -> None:
    """Capital: the greatest loss, or what is asked for short calls that nothing covers."""
    if math.isfinite(max_loss):
        found[_CAPITAL] = -max_loss
        return
    calls, puts = -made.shares, 0.0
    for j in range(row.size):
        if is_call[row[j]]:
            calls -= made.quantity[j]
        else:
            puts -= made.quantity[j]
    found[_CAPITAL] = requirement(spot, calls, found[_SHORT_CALL], puts, found[_SHORT_PUT], -cost, multiplier)


@njit(cache=True, nogil=True, error_model="numpy")
def _tell(
    e: int, cost: float, worst: float, n: int, corners: _Corners, left: float, right: float, opinions: Any, judged: Any, out: Any
) -> None:  # fmt: skip
    """What each opinion says of a candidate that ends at an expiration, into its row."""
    for opinion in range(len(opinions)):
        says = opinions[opinion]
        judge_one(
            cost, worst, n, corners.x, corners.log_x, corners.y, corners.chance, corners.part, left, right,
            says.low[e], says.step[e], says.chance[e], says.part[e], judged,
        )  # fmt: skip
        first = _FOUND + judged.size * opinion
        out[first : first + judged.size] = judged


@njit(cache=True, nogil=True, error_model="numpy")
def _discounted(out: Any, discount: float, yielded: float) -> None:
    """Expected payoffs as they are worth now, with what shares bring until then."""
    for k in range(_FOUND + _EXPECTED, out.size, _JUDGES):
        out[k] = out[k] * discount + yielded


@njit(cache=True, nogil=True, error_model="numpy")
def _evaluate_same(
    legs: Any, made: _Made, quotes: Quotes, log_strike: Any, terms: Terms, opinions: Any, out: Any
) -> None:
    """Candidates whose legs all end together."""
    count, n = legs.shape
    corners, judged = _room(_MOST_CORNERS), np.empty(_JUDGES)
    x, y = corners.x, corners.y
    for i in range(count):
        row, found = legs[i], out[i]
        e = quotes.expiration[row[0]]
        spot, m = terms.spot[e], terms.multiplier[e]
        held = made.shares * m
        # What shares bring until then, which the forward is lower by.
        yielded = held * (spot - terms.forward[e] * terms.discount[e])
        cost = _quoted(row, made, spot, m, quotes, found)
        left = right = held
        for j in range(n):
            x[j], corners.log_x[j] = quotes.strike[row[j]], log_strike[row[j]]
            if quotes.is_call[row[j]]:
                right += m * made.quantity[j]
            else:
                left -= m * made.quantity[j]
        for k in range(n):
            worth = held * x[k]
            for j in range(n):
                away = x[k] - x[j]
                if quotes.is_call[row[j]] and away > 0.0:
                    worth += m * made.quantity[j] * away
                elif not quotes.is_call[row[j]] and away < 0.0:
                    worth -= m * made.quantity[j] * away
            y[k] = worth
        _, worst = _shape(n, x, y, left, right, cost, spot, found)
        _needs(row, made, quotes.is_call, cost, spot, m, worst, found)
        target = terms.target[e]
        found[_AT_TARGET] = _payoff_at(target, n, x, y, left, right) - cost if target > 0.0 else math.nan
        _tell(e, cost, worst, n, corners, left, right, opinions, judged, found)
        _discounted(found, terms.discount[e], yielded)


@njit(cache=True, nogil=True, error_model="numpy")
def _evaluate_later(
    legs: Any, left_variance: Any, made: _Made, quotes: Quotes, log_strike: Any, terms: Terms, opinions: Any, out: Any
) -> None:  # fmt: skip
    """Candidates with a later leg, judged at the nearer expiration."""
    count, n = legs.shape
    corners, judged = _room(MOST_CORNERS + n), np.empty(_JUDGES)
    of = Living(
        np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty((n, 5))
    )  # fmt: skip
    for i in range(count):
        row, found = legs[i], out[i]
        e = far = quotes.expiration[row[0]]
        for j in range(n):
            if made.later[j]:
                far = quotes.expiration[row[j]]
            else:
                e = quotes.expiration[row[j]]
        spot, m = terms.spot[e], terms.multiplier[e]
        held = made.shares * m
        # What shares bring until then, which the forward is lower by.
        yielded = held * (spot - terms.forward[e] * terms.discount[e])
        cost = _quoted(row, made, spot, m, quotes, found)
        near_years, far_years = terms.years[e], terms.years[far]
        left_years = far_years - near_years
        for j in range(n):
            r = row[j]
            of.strike[j], of.log_strike[j] = quotes.strike[r], log_strike[r]
            of.is_call[j], of.contracts[j] = (1.0 if quotes.is_call[r] else 0.0), m * made.quantity[j]
            of.left_years[j] = left_years if made.later[j] else 0.0
            of.left_variance[j], of.far_years[j] = left_variance[i], far_years
            carried = terms.carry[far] * far_years - terms.carry[e] * near_years
            of.carry[j] = carried / left_years if left_years > 0.0 else 0.0
            of.svi[j, :] = terms.parameters[far]
        size, left, right = place_corners(
            AWAY, terms.forward[e], terms.deviation[e], held, of, terms.rate, terms.american[e] != 0.0, corners.x,
            corners.log_x, corners.y,
        )  # fmt: skip
        _, worst = _shape(size, corners.x, corners.y, left, right, cost, spot, found)
        _needs(row, made, quotes.is_call, cost, spot, m, worst, found)
        target = terms.target[e]
        at_target = _payoff_at(target, size, corners.x, corners.y, left, right)
        found[_AT_TARGET] = at_target - cost if target > 0.0 else math.nan
        # A loss that is only approached counts as the greatest within a hundredth.
        most = worst * 0.99 if math.isfinite(worst) and worst < 0.0 else worst
        _tell(e, cost, most, size, corners, left, right, opinions, judged, found)
        _discounted(found, terms.discount[e], yielded)
