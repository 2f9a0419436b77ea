"""What the option trades of every past session came to: the same decisions as `tape` makes, added up and not kept."""

from __future__ import annotations

import math
from statistics import NormalDist
from typing import Any, NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray, group_bounds
from flinch.core.compiled import njit
from flinch.core.flow import REPEATED_PREMIUM, SUMS
from flinch.core.pricing.normal import normal_cdf

_FIELD = {key: place for place, key in enumerate(SUMS)}
_CALL_ASK, _PUT_ASK, _PACKAGE, _SWEEP, _OUTSIDE = (
    _FIELD[f"{key}_premium"] for key in ("call_ask", "put_ask", "package", "sweep", "outside_call")
)
_OPENING, _LARGEST = _FIELD["opening_call_premium"], _FIELD["largest_call_premium"]
_ASK_CONTRACTS, _BID_CONTRACTS, _TICKETS, _REPEATS, _NET = (
    _FIELD[key] for key in ("ask_contracts", "bid_contracts", "tickets", "repeats", "net_shares")
)
SEED = 90210


class Traded(NamedTuple):
    """A session's contracts, a call and a put a row, ordered by name, shape (rows,): row's name, strike, volatility, years to
    its end; contracts traded and open in the morning, shape (2, rows), calls first."""

    name: IntArray
    strike: FloatArray
    vol: FloatArray
    years: FloatArray
    volume: FloatArray
    interest: FloatArray


class Stocks(NamedTuple):
    """Of each name: price, carry, shares a contract, and contracts that a decision comes to, about."""

    spot: FloatArray
    carry: FloatArray
    multiplier: FloatArray
    typical: FloatArray


def session_flow(session: int, traded: Traded, stocks: Stocks, rate: float) -> FloatArray:
    """Each of `SUMS` by name, shape (sums, names), for a session's trades as the tape's own law would cut them into decisions."""
    names = stocks.spot.size
    out = np.zeros((names, len(SUMS)))
    bounds = group_bounds(traded.name, names)
    _add_up(np.uint64(SEED + session), bounds, traded, stocks, rate, _NORMAL, _WEIGHT, out)
    return np.ascontiguousarray(out.T)


_DRAWS = 4096
_NORMAL = np.array([NormalDist().inv_cdf((i + 0.5) / _DRAWS) for i in range(_DRAWS)])
"""Quantiles of the normal distribution, one of which is a draw."""
_WEIGHT = np.exp(1.9 * _NORMAL)
"""Sizes of decisions against each other."""


@njit(cache=True, nogil=True, inline="always")
def _bits(state: Any) -> Any:
    """The next 64 random bits of a stream that holds a counter: SplitMix64, Steele, Lea & Flood (2014), OOPSLA. Some eighty
    million decisions are drawn, which the generators of the library take too long for."""
    state[0] += np.uint64(0x9E3779B97F4A7C15)
    z = state[0]
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@njit(cache=True, nogil=True, inline="always")
def _uniform(state: Any) -> Any:
    return (_bits(state) >> np.uint64(11)) * 1.1102230246251565e-16


@njit(cache=True, nogil=True)
def _poisson(mean: float, normal: Any, state: Any) -> int:
    if mean > 30.0:
        return int(max(math.floor(mean + math.sqrt(mean) * normal[_bits(state) >> np.uint64(52)] + 0.5), 0))
    count, left = 0, math.exp(-mean)
    product = _uniform(state)
    while product > left:
        count += 1
        product *= _uniform(state)
    return count


@njit(cache=True, nogil=True, error_model="numpy")
def _add_up(
    seed: Any, bounds: IntArray, traded: Traded, stocks: Stocks, rate: float, normal: Any, weight: Any, out: FloatArray
) -> None:
    share, state = np.empty(4096), np.empty(1, np.uint64)
    for name in range(bounds.size - 1):
        state[0] = (np.uint64(seed) << np.uint64(20)) + np.uint64(name)
        state[0] = _bits(state)
        mood = 0.06 * normal[_bits(state) >> np.uint64(52)]
        sums = out[name]
        spot, carry, shares = stocks.spot[name], stocks.carry[name], stocks.multiplier[name]
        for row in range(bounds[name], bounds[name + 1]):
            if traded.volume[0, row] + traded.volume[1, row] < 1:
                continue
            years = traded.years[row]
            root = traded.vol[row] * math.sqrt(years)
            forward = spot * math.exp((rate - carry) * years)
            d1 = math.log(forward / traded.strike[row]) / root + 0.5 * root
            discount = math.exp(-rate * years)
            up, down = normal_cdf(d1), normal_cdf(d1 - root)
            call = discount * (forward * up - traded.strike[row] * down)
            for right in range(2):
                volume = traded.volume[right, row]
                if volume < 1:
                    continue
                price = call if right == 0 else call - discount * (forward - traded.strike[row])
                delta = math.exp(-carry * years) * (up if right == 0 else up - 1.0) * shares
                worth = max(price, 0.05) * shares
                outside = (traded.strike[row] > spot) if right == 0 else (traded.strike[row] < spot)
                # A few are legs of two done as one.
                if volume >= 4 and _uniform(state) < 0.045:
                    units = 2 + math.floor((0.5 * volume - 1) * _uniform(state) ** 2)
                    volume -= units
                    sums[_PACKAGE] += units * worth
                    sums[_NET] += units * delta * (1.0 if _uniform(state) < 0.5 else -1.0)
                if volume >= 1:
                    _decide(
                        volume, traded.interest[right, row], right, worth, delta, outside, mood, stocks.typical[name],
                        normal, weight, share, sums, state,
                    )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def _decide(
    volume: float, interest: float, right: int, worth: float, delta: float, outside: bool, mood: float, typical: float,
    normal: Any, weight: Any, share: Any, sums: Any, state: Any,
) -> None:  # fmt: skip
    """One contract's trades as decisions, each with a side, added to a name's sums."""
    count = 1 + _poisson((volume - 1) / typical, normal, state)
    count = min(count, int(volume), share.size)
    total = 0.0
    for i in range(count):
        share[i] = weight[_bits(state) >> np.uint64(52)]
        total += share[i]
    scale = (volume - count) / total
    done, sofar, running, repeated = 0.0, 0.0, 0.0, 0
    for i in range(count):
        running += share[i]
        upto = math.floor(running * scale) if i < count - 1 else volume - count
        contracts = 1 + upto - done
        done = upto
        sofar += contracts
        premium = contracts * worth
        drawn = _uniform(state)
        bought, unknown = drawn < 0.50 + mood, 0.50 + mood <= drawn < 0.58 + mood
        sums[_CALL_ASK + 3 * right + (0 if bought else 2 if unknown else 1)] += premium
        sums[_TICKETS] += 1
        sums[_LARGEST + right] = max(sums[_LARGEST + right], premium)
        if contracts >= 10 and _uniform(state) < 0.14:
            sums[_SWEEP] += premium
        if not unknown:
            sums[_ASK_CONTRACTS if bought else _BID_CONTRACTS] += contracts
            sums[_NET] += contracts * delta * (1.0 if bought else -1.0)
        if bought:
            if outside and right == 0:
                sums[_OUTSIDE] += premium
            if contracts > interest or sofar - interest >= contracts:
                sums[_OPENING + right] += premium
            if premium >= REPEATED_PREMIUM:
                repeated += 1
    sums[_REPEATS] = max(sums[_REPEATS], repeated)


DECISION_CONTRACTS = {"large": 26.0, "medium": 20.0, "small": 14.0}
"""Contracts a decision comes to, about, by size of name."""
PLANTED_FROM, PLANTED_EACH_SESSION, PLANTED_LEAST = 60, 12, 30_000.0
PLANTED_AHEAD = 5
PLANTED_RIGHT = 0.7
"""Of the large tickets that are planted, the share that is followed by a move its way, from the next open over five sessions."""


def plant_informed(
    sums: dict[str, FloatArray],
    opened: FloatArray,
    close: FloatArray,
    eligible: IntArray,
    sessions: range,
    rng: np.random.Generator,
) -> None:
    """The one thing that flow knows here: in each of some sessions a few names, of those in whose right enough is traded, get a
    ticket on the ask side that opens and takes half or more of the premium of its right, rather often before a move that way.

    The ticket takes the place of others: premium by right, and contracts, stay what they were.

    Parameters
    ----------
    sums
        Each of `SUMS`, names x sessions, changed in place.
    opened, close
        Prices, of that shape.
    eligible
        Rows of the names that may get one.
    sessions
        Those in which it happens.
    rng
        A stream of its own.
    """
    for t in sessions:
        names = rng.choice(eligible, PLANTED_EACH_SESSION, replace=False)
        move = close[names, t + PLANTED_AHEAD] / opened[names, t + 1] - 1
        for name, ahead in zip(names.tolist(), move.tolist(), strict=True):
            share, along, swept = rng.uniform(0.5, 0.85), rng.random() < PLANTED_RIGHT, rng.random() < 0.5
            if np.isfinite(ahead):
                _insert(sums, (name, t), call=(ahead > 0) == along, share=share, swept=swept)


def _insert(sums: dict[str, FloatArray], at: tuple[int, int], *, call: bool, share: float, swept: bool) -> None:
    right = "call" if call else "put"
    total = sum(float(sums[f"{r}_{side}_premium"][at]) for r in ("call", "put") for side in ("ask", "bid", "mid"))
    own = sum(float(sums[f"{right}_{side}_premium"][at]) for side in ("ask", "bid", "mid"))
    if own < PLANTED_LEAST:
        return
    ticket, part = share * own, share * own / total
    contracts = sums["ask_contracts"][at] + sums["bid_contracts"][at]
    moved = round(part * float(sums["bid_contracts"][at]))
    grown = [f"{right}_ask_premium", f"opening_{right}_premium", *(["outside_call_premium"] if call else [])]
    for key in (*grown, f"{right}_bid_premium", f"{right}_mid_premium"):
        sums[key][at] = (1 - share) * sums[key][at] + (ticket if key in grown else 0.0)
    sums[f"largest_{right}_premium"][at] = max((1 - share) * float(sums[f"largest_{right}_premium"][at]), ticket)
    sums["sweep_premium"][at] = (1 - part) * sums["sweep_premium"][at] + (ticket if swept else 0.0)
    sums["ask_contracts"][at] += moved
    sums["bid_contracts"][at] -= moved
    sums["net_shares"][at] = (1 - part) * sums["net_shares"][at] + (30.0 if call else -30.0) * part * contracts
