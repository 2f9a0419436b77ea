"""Tickets of several contracts that were done as one, and positions that were moved."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.flow.sides import Sides
from flinch.core.flow.tickets import small_keys

PACKAGE_NANOSECONDS = 100_000_000
"""Legs of a package begin at most so long after the first of them."""
ROLL_NANOSECONDS = 5_000_000_000
MOST_LEGS = 4
_MOST_BESIDE = 64
FORMS = (
    "package", "vertical", "calendar", "diagonal", "straddle", "strangle", "risk reversal", "synthetic stock", "ratio spread",
    "butterfly", "condor", "iron condor", "iron butterfly",
)  # fmt: skip
"""What a package may be; the first is one that makes no known structure."""
(
    _UNNAMED, _VERTICAL, _CALENDAR, _DIAGONAL, _STRADDLE, _STRANGLE, _REVERSAL, _SYNTHETIC, _RATIO, _BUTTERFLY, _CONDOR,
    _IRON_CONDOR, _IRON_BUTTERFLY,
) = range(len(FORMS))  # fmt: skip


class Legs(NamedTuple):
    """Tickets with their contracts, shape (tickets,), in order of `first` (nanoseconds): name, contract, side (-1, 0, +1),
    contracts, right, strike, expiration (days), and whether the source says that it is part of a package."""

    name: IntArray
    first: IntArray
    contract: IntArray
    side: Sides
    contracts: IntArray
    is_call: BoolArray
    strike: FloatArray
    expiration: IntArray
    flagged: BoolArray


class Packages(NamedTuple):
    """`of_ticket`: the package of each ticket, -1 for none, shape (tickets,). By package, in order of its first leg: `form`, a
    place in `FORMS`, how many legs, and `units`, contracts of its smallest leg."""

    of_ticket: IntArray
    form: NDArray[np.int8]
    legs: IntArray
    units: IntArray


def find_packages(legs: Legs) -> Packages:
    """Tickets of one name in different contracts that begin within 100 ms of the first of them and fit together.

    Parameters
    ----------
    legs
        All tickets.

    Returns
    -------
    `Packages`. From the earliest ticket that is in none: when the source flags it, all that it flags beside it; else a butterfly
    (1 : 2 : 1), else those of equal contracts, four at most, else a ratio of 1 : 2. A package has a name when the sides of all
    its legs are known and they make a known structure.

    Raises
    ------
    ValueError
        When tickets are not in order of time.
    """
    _require_order(legs.first)
    size, name = legs.first.size, small_keys(legs.name)
    of_ticket = np.full(size, -1, np.int64)
    form, count, units = np.empty(size, np.int8), np.empty(size, np.int64), np.empty(size, np.int64)
    total = _find(_next_alike(name, int(name.max(initial=-1)) + 1), legs, of_ticket, form, count, units)
    return Packages(of_ticket, form[:total], count[:total], units[:total])


def find_rolls(legs: Legs, open_interest: FloatArray, package: IntArray) -> IntArray:
    """Positions moved from one contract to another: sold on the bid side, bought on the ask side.

    Parameters
    ----------
    legs
        All tickets.
    open_interest
        Of each ticket's contract in the morning, shape (tickets,); NaN where it is not known, which is no roll.
    package
        The package of each ticket, -1 for none: legs of packages are judged with those.

    Returns
    -------
    For each ticket the other one of its roll, -1 for none, shape (tickets,). Two tickets of a name and right in different
    contracts, one on the bid and one on the ask side, that begin at most 5 s apart, contracts within a factor of two, the one on
    the bid side no larger than the open interest of its contract. Each takes the nearest before it that is free.

    Raises
    ------
    ValueError
        When tickets are not in order of time.
    """
    _require_order(legs.first)
    key = 2 * small_keys(legs.name) + legs.is_call
    other = np.full(legs.first.size, -1, np.int64)
    _roll(int(key.max(initial=-1)) + 1, key, legs, np.ascontiguousarray(open_interest, np.float64), package, other)
    return other


def _require_order(first: IntArray) -> None:
    if (np.diff(first) < 0).any():
        raise ValueError("tickets must be in order of time")


@njit(cache=True, nogil=True)
def _next_alike(keys: IntArray, count: int) -> IntArray:
    """Of each ticket the next one with its key, -1 for the last."""
    later, out = np.full(count, -1), np.empty(keys.size, np.int64)
    for i in range(keys.size - 1, -1, -1):
        out[i], later[keys[i]] = later[keys[i]], i
    return out


@njit(cache=True, nogil=True)
def _find(
    after: IntArray, legs: Legs, of_ticket: IntArray, form: NDArray[np.int8], count: IntArray, units: IntArray
) -> int:
    total = 0
    near, chosen = np.empty(_MOST_BESIDE, np.int64), np.empty(_MOST_BESIDE, np.int64)
    for i in range(legs.name.size):
        if of_ticket[i] >= 0:
            continue
        beside = _beside(i, after, legs, of_ticket, near)
        size = _choose(legs, near, beside, chosen) if beside > 1 else 1
        if size < 2:
            continue
        count[total] = size
        units[total] = _fewest(legs, chosen, size)
        form[total] = _form(legs, chosen, size)
        for leg in range(size):
            of_ticket[chosen[leg]] = total
        total += 1
    return total


@njit(cache=True, nogil=True)
def _beside(i: int, after: IntArray, legs: Legs, of_ticket: IntArray, near: IntArray) -> int:
    """The ticket and those of its name, in other contracts each, that begin soon after it and are in no package; how many."""
    near[0], size = i, 1
    j = after[i]
    while j >= 0 and legs.first[j] - legs.first[i] <= PACKAGE_NANOSECONDS and size < near.size:
        other = of_ticket[j] < 0 and legs.flagged[j] == legs.flagged[i]
        for k in range(size):
            other = other and legs.contract[near[k]] != legs.contract[j]
        if other:
            near[size] = j
            size += 1
        j = after[j]
    return size


@njit(cache=True, nogil=True)
def _choose(legs: Legs, near: IntArray, size: int, chosen: IntArray) -> int:
    """Legs of the package that the first of `near` begins; how many."""
    if legs.flagged[near[0]]:
        chosen[:size] = near[:size]
        return size
    # The first is a wing of a butterfly, or its body.
    for a in range(1, size):
        for b in range(1, size):
            if a != b and _is_butterfly(legs, near[0], near[a], near[b]):
                chosen[0], chosen[1], chosen[2] = near[0], near[a], near[b]
                return 3
            if a < b and _is_butterfly(legs, near[a], near[0], near[b]):
                chosen[0], chosen[1], chosen[2] = near[a], near[0], near[b]
                return 3
    taken = 0
    for k in range(size):
        if taken < MOST_LEGS and legs.contracts[near[k]] == legs.contracts[near[0]]:
            chosen[taken] = near[k]
            taken += 1
    if taken > 1:
        return taken
    for k in range(1, size):
        if _is_ratio(legs, near[0], near[k]):
            chosen[0], chosen[1] = near[0], near[k]
            return 2
    return 1


@njit(cache=True, nogil=True)
def _is_butterfly(legs: Legs, wing: int, body: int, other: int) -> bool:
    if legs.contracts[body] != 2 * legs.contracts[wing] or legs.contracts[wing] != legs.contracts[other]:
        return False
    alike = legs.is_call[wing] == legs.is_call[body] == legs.is_call[other]
    alike = alike and legs.expiration[wing] == legs.expiration[body] and legs.expiration[body] == legs.expiration[other]
    low, high = min(legs.strike[wing], legs.strike[other]), max(legs.strike[wing], legs.strike[other])
    sides = legs.side[wing] == legs.side[other] and legs.side[body] == -legs.side[wing]
    return bool(alike and sides and low < legs.strike[body] < high)


@njit(cache=True, nogil=True)
def _is_ratio(legs: Legs, one: int, other: int) -> bool:
    sizes = legs.contracts[one] == 2 * legs.contracts[other] or legs.contracts[other] == 2 * legs.contracts[one]
    alike = legs.is_call[one] == legs.is_call[other] and legs.expiration[one] == legs.expiration[other]
    return bool(sizes and alike and legs.side[one] == -legs.side[other] and legs.side[one] != 0)


@njit(cache=True, nogil=True)
def _fewest(legs: Legs, chosen: IntArray, size: int) -> int:
    least = legs.contracts[chosen[0]]
    for k in range(1, size):
        least = min(least, legs.contracts[chosen[k]])
    return int(least)


@njit(cache=True, nogil=True)
def _form(legs: Legs, chosen: IntArray, size: int) -> int:
    least, equal = _fewest(legs, chosen, size), True
    for k in range(size):
        equal = equal and legs.contracts[chosen[k]] == least
        if legs.side[chosen[k]] == 0:
            return _UNNAMED
    if size == 2:
        return (
            _pair(legs, chosen[0], chosen[1])
            if equal
            else _RATIO
            if _is_ratio(legs, chosen[0], chosen[1])
            else _UNNAMED
        )
    if size == 3:
        for body in range(3):
            if _is_butterfly(legs, chosen[(body + 1) % 3], chosen[body], chosen[(body + 2) % 3]):
                return _BUTTERFLY
    if size == 4 and equal:
        return _four(legs, chosen)
    return _UNNAMED


@njit(cache=True, nogil=True)
def _pair(legs: Legs, a: int, b: int) -> int:
    same_side, same_right = legs.side[a] == legs.side[b], legs.is_call[a] == legs.is_call[b]
    same_strike, same_day = legs.strike[a] == legs.strike[b], legs.expiration[a] == legs.expiration[b]
    if same_right:
        if same_side:
            return _UNNAMED
        return _VERTICAL if same_day else _CALENDAR if same_strike else _DIAGONAL
    if not same_day:
        return _UNNAMED
    call, put = (a, b) if legs.is_call[a] else (b, a)
    if same_side:
        if same_strike:
            return _STRADDLE
        return _STRANGLE if legs.strike[put] < legs.strike[call] else _UNNAMED
    return _SYNTHETIC if same_strike else _REVERSAL


@njit(cache=True, nogil=True)
def _four(legs: Legs, chosen: IntArray) -> int:
    """Four legs of equal size and one expiration: the outer strikes on one side, the inner ones on the other."""
    four = chosen[:4].copy()
    # By strike; of one strike the put first.
    for i in range(1, 4):
        for j in range(i, 0, -1):
            a, b = four[j - 1], four[j]
            later = legs.strike[a] > legs.strike[b] or (
                legs.strike[a] == legs.strike[b] and legs.is_call[a] and not legs.is_call[b]
            )
            if later:
                four[j - 1], four[j] = b, a
    p, q, r, s = four
    day = legs.expiration[p]
    if legs.expiration[q] != day or legs.expiration[r] != day or legs.expiration[s] != day:
        return _UNNAMED
    outer, inner = legs.side[p], legs.side[q]
    if legs.side[s] != outer or legs.side[r] != inner or inner == outer:
        return _UNNAMED
    if legs.is_call[p] == legs.is_call[q] == legs.is_call[r] == legs.is_call[s]:
        return _CONDOR
    if not legs.is_call[p] and not legs.is_call[q] and legs.is_call[r] and legs.is_call[s]:
        return _IRON_BUTTERFLY if legs.strike[q] == legs.strike[r] else _IRON_CONDOR
    return _UNNAMED


@njit(cache=True, nogil=True)
def _roll(keys: int, key: IntArray, legs: Legs, open_interest: FloatArray, package: IntArray, other: IntArray) -> None:
    newest, before = np.full(keys, -1), np.empty(key.size, np.int64)
    for i in range(key.size):
        before[i], newest[key[i]] = newest[key[i]], i
        if legs.side[i] == 0 or package[i] >= 0:
            continue
        j = before[i]
        while j >= 0 and legs.first[i] - legs.first[j] <= ROLL_NANOSECONDS:
            opposite = legs.side[j] == -legs.side[i] and legs.contract[j] != legs.contract[i]
            if opposite and package[j] < 0 and other[j] < 0:
                small, large = min(legs.contracts[i], legs.contracts[j]), max(legs.contracts[i], legs.contracts[j])
                sold = i if legs.side[i] < 0 else j
                if large <= 2 * small and legs.contracts[sold] <= open_interest[sold]:
                    other[i], other[j] = j, i
                    break
            j = before[j]
