"""Tickets of several contracts that were done as one, and positions that were moved."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.flow.sides import Sides
from flinch.core.flow.tickets import small_keys

PACKAGE_NANOSECONDS = 100_000_000
"""Legs of a package begin at most so long after the first of them."""
ROLL_NANOSECONDS = 5_000_000_000
LARGE_CONTRACTS, LARGE_PREMIUM = 50, 25_000.0
"""A side of a roll, and a leg of a package that no source told, has at least one of them."""
AROUND_NANOSECONDS = 1_800_000_000_000
"""The half hour whose tickets tell how often a name trades."""
UNLIKELY = 0.002
"""So many partners, or more, that chance would bring make a pair one of chance."""
_APART, _ROLLS_APART = 20_000_000_000, 120_000_000_000
"""For how long beside a ticket's window partners are looked for that cannot be of its package or roll: they are chance's."""
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
    contracts, premium, right, strike, expiration (days), and whether the source says that it is part of a package."""

    name: IntArray
    first: IntArray
    contract: IntArray
    side: Sides
    contracts: IntArray
    premium: FloatArray
    is_call: BoolArray
    strike: FloatArray
    expiration: IntArray
    flagged: BoolArray


class Packages(NamedTuple):
    """`of_ticket`: the package of each ticket, -1 for none, shape (tickets,). By package, in order of its first leg: `form`, a
    place in `FORMS`, how many legs, `units`, contracts of its smallest leg, and whether its source says so. `by_chance`: how many
    of those that no source told chance makes, at the first leg's ticket, shape (tickets,)."""

    of_ticket: IntArray
    form: NDArray[np.int8]
    legs: IntArray
    units: IntArray
    flagged: BoolArray
    by_chance: FloatArray


class Rolls(NamedTuple):
    """`other`: of each ticket the other side of its roll, -1 for none; `by_chance`: how many of the rolls chance makes, at the
    later side's ticket. Both of shape (tickets,)."""

    other: IntArray
    by_chance: FloatArray


def find_packages(legs: Legs, hours: tuple[int, int]) -> Packages:
    """Tickets of one name in different contracts that begin within 100 ms of the first of them and fit together.

    Of those that no source flags, only large tickets (50 contracts or 25,000 premium) can be legs: of the many small ones some
    hundreds a session would be told that only chance put together.

    Parameters
    ----------
    legs
        All tickets.
    hours
        When the session begins and ends, or is known until, in the time of `first`.

    Returns
    -------
    `Packages`. From the earliest ticket that is in none: when the source flags it, all that it flags beside it; else a butterfly
    (1 : 2 : 1), else those of equal contracts, four at most, else a ratio of 1 : 2, of those that chance does not make. A package
    has a name when the sides of all its legs are known and they make a known structure.

    Chance makes a pair when for each of the two its name's tickets of the half hour around (moved to lie within its hours),
    of which as many fit as of the session's, bring 0.002 or more partners with the other's side and contracts into the window
    of 100 ms before and after. How many it makes all the same is counted where it alone can make any: the pairs that would be
    told if they stood together, of those that begin 5 to 25 s apart (the delayed coincidences of counters: Knoll 2010,
    Radiation Detection and Measurement, ch. 17).

    Raises
    ------
    ValueError
        When tickets are not in order of time.
    """
    _require_order(legs.first)
    size, name = legs.first.size, small_keys(legs.name)
    chance = _chance(legs, name, hours, _large(legs) & ~legs.flagged, PACKAGE_NANOSECONDS, roll=False)
    of_ticket = np.full(size, -1, np.int64)
    form, count, units = np.empty(size, np.int8), np.empty(size, np.int64), np.empty(size, np.int64)
    _, after = _neighbours(name, int(name.max(initial=-1)) + 1, np.ones(size, np.bool_))
    total = _find(legs, chance, after, of_ticket, form, count, units)
    flagged, by_chance = np.zeros(total, np.bool_), np.zeros(size)
    flagged[of_ticket[legs.flagged & (of_ticket >= 0)]] = True
    _packages_by_chance(legs, chance, by_chance)
    return Packages(of_ticket, form[:total], count[:total], units[:total], flagged, by_chance)


def find_rolls(legs: Legs, open_interest: FloatArray, package: IntArray, hours: tuple[int, int]) -> Rolls:
    """Positions moved from one contract to another: sold on the bid side, bought on the ask side.

    Parameters
    ----------
    legs
        All tickets.
    open_interest
        Of each ticket's contract in the morning, shape (tickets,); NaN where it is not known, which is no roll.
    package
        The package of each ticket, -1 for none: legs of packages are judged with those.
    hours
        As `find_packages` takes them.

    Returns
    -------
    `Rolls`. Two tickets of a name and right in different contracts, one on the bid and one on the ask side, that begin at most
    5 s apart, contracts within a factor of two, each of 50 contracts or 25,000 premium, the one on the bid side no larger than
    the open interest of its contract, which chance does not make: for one of the two at least, the half hour around brings
    fewer than 0.002 partners as fitting (that side, as near in contracts, no smaller) into the window of 5 s before and after.
    Each takes the nearest before it that is free. What chance makes all the same is counted from pairs that begin 5 to 125 s
    apart.

    Raises
    ------
    ValueError
        When tickets are not in order of time.
    """
    _require_order(legs.first)
    size = legs.first.size
    key = 2 * small_keys(legs.name) + legs.is_call
    able = _large(legs) & (legs.side != 0) & (package < 0)
    chance = _chance(legs, key, hours, able, ROLL_NANOSECONDS, roll=True)
    other, by_chance = np.full(size, -1, np.int64), np.zeros(size)
    _match_rolls(legs, chance, np.ascontiguousarray(open_interest, np.float64), other, by_chance)
    return Rolls(other, by_chance)


def _large(legs: Legs) -> BoolArray:
    large: BoolArray = (legs.contracts >= LARGE_CONTRACTS) | (legs.premium >= LARGE_PREMIUM)
    return large


def _require_order(first: IntArray) -> None:
    if (np.diff(first) < 0).any():
        raise ValueError("tickets must be in order of time")


@njit(cache=True, nogil=True)
def _neighbours(keys: IntArray, count: int, linked: BoolArray) -> tuple[IntArray, IntArray]:
    """Of each linked ticket the linked one before and after it with its key, -1 without one and for those that are not."""
    newest = np.full(count, -1)
    before, after = np.full(keys.size, -1), np.full(keys.size, -1)
    for i in range(keys.size):
        if not linked[i]:
            continue
        before[i] = newest[keys[i]]
        if before[i] >= 0:
            after[before[i]] = i
        newest[keys[i]] = i
    return before, after


class _Chance(NamedTuple):
    """What tells whether chance makes a pair. Of each ticket: its key, whether it may be a part at all, of those the one before
    and the next one with its key (-1 without), and how many tickets of its key there are and how many of them in the half hour
    around. Those that may be a part in order of key, side and contracts, and of contract, side and contracts, as `_place` puts
    them into one number. Then the window."""

    key: IntArray
    able: BoolArray
    before: IntArray
    after: IntArray
    alike: IntArray
    around: IntArray
    by_key: IntArray
    by_contract: IntArray
    window: int
    roll: bool


def _chance(legs: Legs, key: IntArray, hours: tuple[int, int], able: BoolArray, window: int, *, roll: bool) -> _Chance:
    before, after = _neighbours(key, int(key.max(initial=-1)) + 1, able)
    side, contracts, contract = (values[able].astype(np.int64) for values in (legs.side, legs.contracts, legs.contract))
    by_key, by_contract = (np.sort(_place(group, side, contracts)) for group in (key[able], contract))
    return _Chance(
        key,
        able,
        before,
        after,
        np.bincount(key)[key],
        _around(key, legs.first, hours),
        by_key,
        by_contract,
        window,
        roll,
    )


@njit(cache=True, nogil=True)
def _place(group: Any, side: Any, contracts: Any) -> Any:
    return ((group * 3 + side + 1) << 32) + contracts


def _around(key: IntArray, first: IntArray, hours: tuple[int, int]) -> IntArray:
    """How many tickets of its key lie in the half hour around each one, moved to lie within the session's hours."""
    if not first.size:
        return np.empty(0, np.int64)
    opened, closed = hours
    begin = np.maximum(np.minimum(first - AROUND_NANOSECONDS // 2, closed - AROUND_NANOSECONDS), opened)
    # What was told before the open, or after the close, has its own half hour.
    begin = np.minimum(begin, first)
    begin = np.maximum(begin, first - AROUND_NANOSECONDS)
    # In one row of numbers: the key first, and within it the time.
    width = int(first[-1]) + 2 * AROUND_NANOSECONDS
    order = np.argsort(key, kind="stable")
    told, base = key[order] * width + first[order], key * width + begin
    around: IntArray = np.searchsorted(told, base + AROUND_NANOSECONDS, "right") - np.searchsorted(told, base)
    return around


@njit(cache=True, nogil=True)
def _between(placed: IntArray, group: int, side: int, low: int, high: int) -> int:
    return int(
        np.searchsorted(placed, _place(group, side, high), "right") - np.searchsorted(placed, _place(group, side, low))
    )


@njit(cache=True, nogil=True)
def _as_fitting(legs: Legs, chance: _Chance, i: int, j: int) -> int:
    """How many others, in contracts other than the first's, would fit it as well as the second does, or better."""
    own, found, side = legs.contracts[i], legs.contracts[j], int(legs.side[j])
    low, high = found, found
    if chance.roll:
        # As near, and neither of the two smaller than the smaller one is.
        low, high = (found, own * own // found) if found < own else (own, found)
    of_key = _between(chance.by_key, chance.key[i], side, low, high)
    return of_key - _between(chance.by_contract, legs.contract[i], side, low, high) - 1


@njit(cache=True, nogil=True)
def _by_chance(legs: Legs, chance: _Chance, i: int, j: int) -> bool:
    """Whether chance brings so many partners that fit the first ticket as the second does that the pair says nothing."""
    # A share of the session's tickets fits; so many of them come in the half hour, and of those so many in the window.
    rate = _as_fitting(legs, chance, i, j) * chance.around[i] / chance.alike[i]
    return bool(rate * 2 * chance.window / AROUND_NANOSECONDS >= UNLIKELY)


@njit(cache=True, nogil=True)
def _unlikely(legs: Legs, chance: _Chance, i: int, j: int) -> bool:
    """Whether chance makes no such pair, seen from one of the two at least: the other may lie in a crowd."""
    return bool(not _by_chance(legs, chance, i, j) or not _by_chance(legs, chance, j, i))


@njit(cache=True, nogil=True)
def _packages_by_chance(legs: Legs, chance: _Chance, out: FloatArray) -> None:
    for i in range(legs.first.size):
        j = chance.after[i] if chance.able[i] else -1
        while j >= 0 and legs.first[j] - legs.first[i] <= ROLL_NANOSECONDS + _APART:
            apart = legs.first[j] - legs.first[i] > ROLL_NANOSECONDS
            if apart and chance.able[j] and legs.contract[i] != legs.contract[j]:
                fits = legs.contracts[i] == legs.contracts[j] or _is_ratio(legs, i, j)
                if fits and _unlikely(legs, chance, i, j):
                    out[i] += PACKAGE_NANOSECONDS / _APART
            j = chance.after[j]


@njit(cache=True, nogil=True)
def _find(
    legs: Legs, chance: _Chance, after: IntArray, of_ticket: IntArray, form: NDArray[np.int8], count: IntArray,
    units: IntArray,
) -> int:  # fmt: skip
    total = 0
    near, chosen = np.empty(_MOST_BESIDE, np.int64), np.empty(_MOST_BESIDE, np.int64)
    for i in range(legs.name.size):
        if of_ticket[i] >= 0:
            continue
        beside = _beside(i, after, legs, of_ticket, near)
        size = _choose(legs, chance, near, beside, chosen) if beside > 1 else 1
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
def _choose(legs: Legs, chance: _Chance, near: IntArray, size: int, chosen: IntArray) -> int:
    """Legs of the package that the first of `near` begins; how many."""
    if legs.flagged[near[0]]:
        chosen[:size] = near[:size]
        return size
    # What chance brings beside the first is none of its legs.
    left, able = 1, chance.able[near[0]]
    for k in range(1, size):
        if able and chance.able[near[k]] and _unlikely(legs, chance, near[0], near[k]):
            near[left] = near[k]
            left += 1
    # The first is a wing of a butterfly, or its body.
    for a in range(1, left):
        for b in range(1, left):
            if a != b and _is_butterfly(legs, near[0], near[a], near[b]):
                chosen[0], chosen[1], chosen[2] = near[0], near[a], near[b]
                return 3
            if a < b and _is_butterfly(legs, near[a], near[0], near[b]):
                chosen[0], chosen[1], chosen[2] = near[a], near[0], near[b]
                return 3
    taken = 0
    for k in range(left):
        if taken < MOST_LEGS and legs.contracts[near[k]] == legs.contracts[near[0]]:
            chosen[taken] = near[k]
            taken += 1
    if taken > 1:
        return taken
    for k in range(1, left):
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
def _match_rolls(
    legs: Legs, chance: _Chance, open_interest: FloatArray, other: IntArray, by_chance: FloatArray
) -> None:
    for i in range(other.size):
        j = chance.before[i] if chance.able[i] else -1
        while j >= 0 and legs.first[i] - legs.first[j] <= ROLL_NANOSECONDS + _ROLLS_APART:
            if chance.able[j] and _sides_of_a_roll(legs, i, j, open_interest):
                if legs.first[i] - legs.first[j] > ROLL_NANOSECONDS:
                    if _unlikely(legs, chance, i, j):
                        by_chance[i] += ROLL_NANOSECONDS / _ROLLS_APART
                elif other[i] < 0 and other[j] < 0 and _unlikely(legs, chance, i, j):
                    other[i], other[j] = j, i
            j = chance.before[j]


@njit(cache=True, nogil=True)
def _sides_of_a_roll(legs: Legs, i: int, j: int, open_interest: FloatArray) -> bool:
    if legs.side[j] != -legs.side[i] or legs.contract[j] == legs.contract[i]:
        return False
    sold = i if legs.side[i] < 0 else j
    small, large = min(legs.contracts[i], legs.contracts[j]), max(legs.contracts[i], legs.contracts[j])
    return bool(large <= 2 * small and legs.contracts[sold] <= open_interest[sold])
