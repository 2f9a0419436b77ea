"""What the tickets of a group (a name, a contract, a quarter of an hour) come to, many groups in one pass."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit

Places = NDArray[np.integer[Any]]
SIDES = ("bid", "mid", "ask")


class Groups(NamedTuple):
    """By group: `call` and `put` premium by side (groups, 3; in the order of `SIDES`), how many tickets, contracts by side
    (groups, 3), and the place of the ticket with the most premium, -1 without one."""

    call: FloatArray
    put: FloatArray
    tickets: IntArray
    contracts: IntArray
    largest: IntArray

    @property
    def premium(self) -> FloatArray:
        """All premium, shape (groups,)."""
        total: FloatArray = (self.call + self.put) @ np.ones(3)
        return total

    @property
    def ask_share(self) -> FloatArray:
        """Contracts on the ask side over those with a known side, shape (groups,), a decimal; NaN where no side is known."""
        bid, ask = self.contracts[:, 0], self.contracts[:, 2]
        with np.errstate(invalid="ignore"):
            share: FloatArray = ask / (bid + ask)
        return share


def group_tickets(
    group: Places,
    groups: int,
    is_call: BoolArray,
    side: NDArray[np.int8],
    premium: NDArray[np.floating[Any]],
    contracts: NDArray[np.integer[Any]],
) -> Groups:
    """Add tickets up by group.

    Parameters
    ----------
    group
        Of each ticket, from 0 up to `groups`, shape (tickets,).
    groups
        How many there are.
    is_call, side, premium, contracts
        Of each ticket; `side` is a place in `SIDES`.
    """
    out = Groups(
        np.zeros((groups, 3)),
        np.zeros((groups, 3)),
        np.zeros(groups, np.int64),
        np.zeros((groups, 3), np.int64),
        np.full(groups, -1),
    )
    columns = (
        group.astype(np.int64, copy=False),
        is_call,
        side,
        premium.astype(np.float64),
        contracts.astype(np.int64),
    )
    _add(*[np.require(column, requirements=("C", "W")) for column in columns], *out)  # type: ignore[call-arg]
    return out


def highest(group: Places, groups: int, values: NDArray[Any]) -> FloatArray:
    """The highest of each group's values, which are not below zero; 0 for a group without one, shape (groups,)."""
    out = np.zeros(groups)
    columns = (group.astype(np.int64, copy=False), values.astype(np.float64))
    _highest(*[np.require(column, requirements=("C", "W")) for column in columns], out)  # type: ignore[call-arg]
    return out


def place_of_highest(group: Places, groups: int, values: NDArray[Any]) -> IntArray:
    """Where each group's highest value above zero stands, the first of several; -1 for a group without one, shape (groups,)."""
    place = np.full(groups, -1)
    columns = (group.astype(np.int64, copy=False), values.astype(np.float64, copy=False))
    _place_of_highest(*[np.require(column, requirements=("C", "W")) for column in columns], place)  # type: ignore[call-arg]
    return place


@njit(cache=True, nogil=True)
def _place_of_highest(group: Any, values: Any, place: Any) -> None:
    for i in range(group.size):
        before = place[group[i]]
        if values[i] > (0.0 if before < 0 else values[before]):
            place[group[i]] = i


@njit(cache=True, nogil=True)
def _highest(group: Any, values: Any, out: Any) -> None:
    for i in range(group.size):
        out[group[i]] = max(out[group[i]], values[i])


@njit(cache=True, nogil=True)
def _add(
    group: Any, is_call: Any, side: Any, premium: Any, contracts: Any,
    call: Any, put: Any, tickets: Any, counted: Any, largest: Any,
) -> None:  # fmt: skip
    for i in range(group.size):
        g, s = group[i], side[i]
        if is_call[i]:
            call[g, s] += premium[i]
        else:
            put[g, s] += premium[i]
        tickets[g] += 1
        counted[g, s] += contracts[i]
        if largest[g] < 0 or premium[i] > premium[largest[g]]:
            largest[g] = i
