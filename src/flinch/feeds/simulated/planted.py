"""Trades that planted cases put on the tape, beside those that are drawn."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import since_open
from flinch.feeds.simulated.chains import Snapshot
from flinch.feeds.simulated.ground import Ground, trades_of
from flinch.feeds.simulated.storylines import PlantedTrade

Whole = NDArray[np.int64]
Marks = NDArray[np.bool_]
_SIDES = {"ask": 1.0, "mid": 0.0, "bid": -1.0}


class Planted(NamedTuple):
    """Decisions of a session, shape (decisions,): row in the session's chain, milliseconds since the open, contracts, side (-1 to
    +1), over how many venues, whether it is a leg of a package, and whether it is cancelled."""

    row: Whole
    at: Whole
    contracts: Whole
    side: NDArray[np.float64]
    venues: Whole
    package: Marks
    cancelled: Marks


def planted_decisions(ground: Ground, snapshot: Snapshot) -> Planted:
    """What is planted in the session of a snapshot, whose chain must list it.

    Raises
    ------
    ValueError
        For a contract that is not listed.
    """
    rows, at = [], []
    trades = trades_of(ground, snapshot.session)
    for name, trade in trades:
        row = _row(snapshot, name, trade)
        rows.append(np.full(trade.times, row))
        at.append(since_open(trade.at) + 1000 * trade.every * np.arange(trade.times))
    times = [trade.times for _, trade in trades]

    def each(values: list[float]) -> NDArray[np.float64]:
        return np.repeat(np.array(values, np.float64), times)

    return Planted(
        np.concatenate([*rows, np.empty(0, np.int64)]).astype(np.int64),
        np.concatenate([*at, np.empty(0, np.int64)]).astype(np.int64),
        each([trade.contracts for _, trade in trades]).astype(np.int64),
        each([_SIDES[trade.side] for _, trade in trades]),
        each([trade.venues for _, trade in trades]).astype(np.int64),
        each([trade.package for _, trade in trades]).astype(np.bool_),
        each([trade.cancelled for _, trade in trades]).astype(np.bool_),
    )


def planted_volume(ground: Ground, snapshot: Snapshot) -> Whole:
    """Contracts that are planted before a snapshot, by row of its chain."""
    planted = planted_decisions(ground, snapshot)
    told = ~planted.cancelled & (planted.at < since_open(snapshot.taken_at))
    return np.bincount(planted.row[told], planted.contracts[told], snapshot.chain.strike.size).astype(np.int64)


def _row(snapshot: Snapshot, name: int, trade: PlantedTrade) -> int:
    expiries, chain = snapshot.expiries, snapshot.chain
    expiry = np.flatnonzero((expiries.name == name) & (expiries.expiration == np.datetime64(trade.expiration, "D")))
    first, last = np.searchsorted(chain.expiry, [expiry[0], expiry[0] + 1]) if expiry.size else (0, 0)
    here = slice(int(first), int(last))
    found = np.flatnonzero((chain.strike[here] == trade.strike) & (chain.is_call[here] == (trade.right == "call")))
    if not found.size:
        raise ValueError(f"the planted trade {trade} is in a contract that is not listed")
    return int(first + found[0])
