"""Fills that are taken to be one decision."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.flow.sides import Sides

RUN_NANOSECONDS = 500_000_000
"""A fill belongs to a run when it comes at most so long after the one before it in its contract and side."""
GROUP_NANOSECONDS = 60_000_000_000
"""A run belongs to a group when it begins at most so long after the last fill of the one before."""
SPLIT_FILLS = 3
BLOCK_CONTRACTS = 250
BLOCK_PREMIUM = 250_000.0
KINDS = ("single", "block", "split", "sweep")
SINGLE, BLOCK, SPLIT, SWEEP = range(4)

Venues = NDArray[np.int16]


class Tickets(NamedTuple):
    """Shape (tickets,), ordered by `first` and then by the first fill's place: contract, side, times of the first and the last
    fill (nanoseconds), how many fills and venues, contracts, premium (money), price a share weighted by contracts, and `kind`, a
    place in `KINDS`."""

    contract: IntArray
    side: Sides
    first: IntArray
    last: IntArray
    fills: IntArray
    venues: IntArray
    contracts: IntArray
    premium: FloatArray
    price: FloatArray
    kind: Sides


def make_tickets(
    time: IntArray,
    contract: IntArray,
    side: Sides,
    venue: Venues,
    price: FloatArray,
    contracts: IntArray,
    *,
    multiplier: ArrayLike = 100.0,
) -> tuple[Tickets, IntArray]:
    """Put fills together into tickets.

    Parameters
    ----------
    time, contract, side, venue, price, contracts
        Of each fill, shape (fills,), in order of time: nanoseconds, a key of its contract, -1, 0 or +1 as from `trade_side`, a
        key of its venue, price a share, contracts.
    multiplier
        Shares a contract: one number, or one for each fill.

    Returns
    -------
    `Tickets`, and the ticket of each fill, shape (fills,).

    Raises
    ------
    ValueError
        When the fills are not in order of time, or the columns differ in length.

    Notes
    -----
    1. A *run* is fills of one contract and side, each at most 500 ms after the one before it in that contract and side. A run on
       two or more venues is one ticket, a sweep.
    2. Other runs of one contract, side and venue whose fills all have one price form a *group* while each begins at most 60 s
       after the last fill of the one before and has the same price. A group of three or more fills, also of a single run, is one
       ticket, a split.
    3. Every run left is one ticket: a block when it is one fill of at least 250 contracts or 250,000 premium, else single.
    """
    size = time.size
    contract, side = np.require(contract, np.int64, ["C", "W"]), np.require(side, np.int8, ["C", "W"])
    if any(np.shape(column) != (size,) for column in (time, contract, side, venue, price, contracts)):
        raise ValueError("every column of the fills must have the same length")
    if size and (np.diff(time) < 0).any():
        place = int(np.flatnonzero(np.diff(time) < 0)[0]) + 1
        raise ValueError(f"fills must be in order of time; the one at {place} comes before the one ahead of it")
    keys = 3 * small_keys(contract) + (side + 1)
    # Columns of a table cannot be written to, which compiled code would take for another type.
    fills = _Fills(
        np.require(time, np.int64, ["C", "W"]),
        keys,
        np.require(venue, np.int16, ["C", "W"]),
        np.require(price, np.float64, ["C", "W"]),
        np.require(contracts, np.int64, ["C", "W"]),
        np.require(np.broadcast_to(np.asarray(multiplier, np.float64), (size,)), np.float64, ["C", "W"]),
    )
    run, runs, most = np.empty(size, np.int64), _empty_runs(size), int(keys.max(initial=-1)) + 1
    count = _make_runs(fills, most, run, runs)
    of_run, kind = np.empty(count, np.int64), np.empty(count, np.int8)
    total = _make_groups(runs, count, most, of_run, kind)
    ticket, tickets = of_run[run], _empty_tickets(kind[:total].copy())
    _add_up(fills, contract, side, ticket, tickets)
    with np.errstate(invalid="ignore", divide="ignore"):
        return tickets._replace(price=tickets.price / tickets.contracts), ticket


class _Fills(NamedTuple):
    time: IntArray
    key: IntArray
    venue: Venues
    price: FloatArray
    contracts: IntArray
    shares: FloatArray


class _Runs(NamedTuple):
    """By run, in the order in which they begin: key, times of the first and last fill, fills, venue of the first, price of the
    first, and whether there are several venues and several prices."""

    key: IntArray
    first: IntArray
    last: IntArray
    fills: IntArray
    venue: Venues
    price: FloatArray
    several_venues: NDArray[np.bool_]
    several_prices: NDArray[np.bool_]


def _empty_runs(size: int) -> _Runs:
    key, first, last, fills = (np.empty(size, np.int64) for _ in range(4))
    several_venues, several_prices = np.empty(size, np.bool_), np.empty(size, np.bool_)
    return _Runs(key, first, last, fills, np.empty(size, np.int16), np.empty(size), several_venues, several_prices)


def small_keys(keys: IntArray) -> IntArray:
    """Keys as places in an array: themselves where they are small, else their ranks."""
    if keys.size and (keys.min() < 0 or keys.max() > 4 * keys.size + 1_000_000):
        return np.unique(keys, return_inverse=True)[1].astype(np.int64)
    return np.ascontiguousarray(keys, np.int64)


@njit(cache=True, nogil=True)
def _make_runs(fills: _Fills, keys: int, run: IntArray, runs: _Runs) -> int:
    """Number the runs in the order in which they begin; how many there are."""
    newest = np.full(keys, -1)
    count = 0
    for i in range(fills.time.size):
        key = fills.key[i]
        r = newest[key]
        if r < 0 or fills.time[i] - runs.last[r] > RUN_NANOSECONDS:
            r = count
            count += 1
            newest[key] = r
            runs.key[r] = key
            runs.first[r] = fills.time[i]
            runs.fills[r] = 0
            runs.venue[r] = fills.venue[i]
            runs.price[r] = fills.price[i]
            runs.several_venues[r] = False
            runs.several_prices[r] = False
        runs.last[r] = fills.time[i]
        runs.fills[r] += 1
        runs.several_venues[r] |= fills.venue[i] != runs.venue[r]
        runs.several_prices[r] |= fills.price[i] != runs.price[r]
        run[i] = r
    return count


@njit(cache=True, nogil=True)
def _make_groups(runs: _Runs, size: int, keys: int, ticket: IntArray, kind: Sides) -> int:
    """Number the tickets of the first `size` runs as they begin, and tell sweeps and splits; how many tickets there are.

    Of each key the newest run on every venue is kept, one after the other.
    """
    newest, beside = np.full(keys, -1), np.full(size, -1)
    group, fills = np.arange(size), np.zeros(size, np.int64)  # the first run of each one's group, and the group's fills
    for r in range(size):
        if runs.several_venues[r] or runs.several_prices[r]:
            continue
        before, at = -1, newest[runs.key[r]]
        while at >= 0 and runs.venue[at] != runs.venue[r]:
            if runs.first[r] - runs.last[at] > GROUP_NANOSECONDS:
                # Nothing can follow it any more.
                if before >= 0:
                    beside[before] = beside[at]
                else:
                    newest[runs.key[r]] = beside[at]
            else:
                before = at
            at = beside[at]
        if at >= 0:
            beside[r] = beside[at]
            if runs.first[r] - runs.last[at] <= GROUP_NANOSECONDS and runs.price[r] == runs.price[at]:
                group[r] = group[at]
        if before >= 0:
            beside[before] = r
        else:
            newest[runs.key[r]] = r
        fills[group[r]] += runs.fills[r]
    count = 0
    for r in range(size):
        split = fills[group[r]] >= SPLIT_FILLS
        if split and group[r] != r:
            ticket[r] = ticket[group[r]]
            continue
        ticket[r] = count
        kind[count] = SWEEP if runs.several_venues[r] else SPLIT if split else SINGLE
        count += 1
    return count


def _empty_tickets(kind: Sides) -> Tickets:
    count = kind.size
    contract, first, last, fills, venues, contracts = (np.zeros(count, np.int64) for _ in range(6))
    side, premium, price = np.zeros(count, np.int8), np.zeros(count), np.zeros(count)
    return Tickets(contract, side, first, last, fills, venues, contracts, premium, price, kind)


@njit(cache=True, nogil=True)
def _add_up(fills: _Fills, contract: IntArray, side: Sides, ticket: IntArray, out: Tickets) -> None:
    """Sum up the fills of each ticket; `out.price` gets what was paid for shares."""
    size = ticket.size
    newest, before = np.full(out.kind.size, -1), np.full(size, -1)  # the newest fill of a ticket, the one before each
    for i in range(size):
        t = ticket[i]
        if newest[t] < 0:
            out.contract[t], out.side[t], out.first[t] = contract[i], side[i], fills.time[i]
        out.last[t] = fills.time[i]
        out.fills[t] += 1
        out.contracts[t] += fills.contracts[i]
        paid = fills.price[i] * fills.contracts[i]
        out.price[t] += paid
        out.premium[t] += paid * fills.shares[i]
        before[i], newest[t] = newest[t], i
        if before[i] < 0:
            out.venues[t] = 1
        elif out.kind[t] == SWEEP:
            at = before[i]
            while at >= 0 and fills.venue[at] != fills.venue[i]:
                at = before[at]
            if at < 0:
                out.venues[t] += 1
    for t in range(out.kind.size):
        large = out.contracts[t] >= BLOCK_CONTRACTS or out.premium[t] >= BLOCK_PREMIUM
        if out.kind[t] == SINGLE and out.fills[t] == 1 and large:
            out.kind[t] = BLOCK
