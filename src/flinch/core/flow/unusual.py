"""How unusual a ticket is for its own name, in five parts that are all shown."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.flow.sides import Sides
from flinch.core.flow.tickets import SPLIT, SWEEP

HISTORY = 60
"""Sessions that a ticket's size is measured against, and after which being the first of its size counts in full."""
SOON_DAYS = 14


class Novelty(NamedTuple):
    """`sessions` since the name last had a ticket of this premium or more in the same right, 0 when it had one earlier in the
    same session; where there was none, `first` says so and `sessions` is how many are held. Shape (tickets,)."""

    sessions: IntArray
    first: BoolArray


class Parts(NamedTuple):
    """The five parts, each 0 to 1 or NaN, shape (tickets,)."""

    size: FloatArray
    over_interest: FloatArray
    ask_share: FloatArray
    novelty: FloatArray
    urgency: FloatArray


def novelty(premium: FloatArray, owner: IntArray, largest: FloatArray) -> Novelty:
    """Sessions since a name last had a ticket like this.

    Parameters
    ----------
    premium, owner
        Of each ticket of one session, in order of time, shape (tickets,); `owner` is the row of its name and right in `largest`.
    largest
        Premium of the largest ticket of each session before, oldest first, shape (owners, sessions); NaN where nothing is known,
        which counts for nothing; 0 where there was none.
    """
    sessions, first = np.empty(premium.size, np.int64), np.empty(premium.size, np.bool_)
    _look_back(premium, owner, np.ascontiguousarray(largest, np.float64), sessions, first)
    return Novelty(sessions, first)


def size_rank(premium: FloatArray, owner: IntArray, largest: FloatArray) -> FloatArray:
    """Share of the last 60 sessions whose largest ticket was smaller; as in `novelty`. NaN when none of them is known."""
    recent = largest[:, -HISTORY:]
    known = np.isfinite(recent)
    ordered = np.sort(np.where(known, recent, np.inf), axis=1)
    below = np.empty(premium.size)
    _count_below(premium, owner, ordered, below)
    with np.errstate(invalid="ignore", divide="ignore"):
        share: FloatArray = below / known.sum(axis=1)[owner]
    return share


def unusual_parts(
    *,
    size: FloatArray,
    volume: FloatArray,
    open_interest: FloatArray,
    ask_share: FloatArray,
    seen: Novelty,
    kind: Sides,
    out_of_the_money: BoolArray,
    days: IntArray,
) -> Parts:
    """The parts of *unusual*, all of one shape.

    Parameters
    ----------
    size
        As from `size_rank`.
    volume, open_interest
        Of the ticket's contract: so far in the session, and in the morning.
    ask_share
        Of its contract: contracts on the ask side over all with a known side, 0 to 1.
    seen
        As from `novelty`.
    kind
        A place in `KINDS`.
    out_of_the_money, days
        Whether it is, and calendar days to its expiration.

    Returns
    -------
    `Parts`: size; min(1, volume / open interest / 2), where nothing was open 1; ask share; min(1, sessions / 60); urgency: sweep
    1, split 1/2, out of the money with at most 14 days left 1/2 more, at most 1.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        over = np.where(
            open_interest > 0, np.minimum(1.0, volume / open_interest / 2.0), np.where(volume > 0, 1.0, np.nan)
        )
    over = np.where(np.isnan(open_interest), np.nan, over)
    urgency = np.where(kind == SWEEP, 1.0, np.where(kind == SPLIT, 0.5, 0.0))
    urgency = np.minimum(1.0, urgency + np.where(out_of_the_money & (days <= SOON_DAYS), 0.5, 0.0))
    return Parts(size, over, ask_share, np.asarray(np.minimum(1.0, seen.sessions / HISTORY), np.float64), urgency)


def unusual(parts: Parts, weights: ArrayLike = (1.0, 1.0, 1.0, 1.0, 1.0)) -> FloatArray:
    """Weighted sum of the parts, NaN where one that counts is missing; `weights` in the order of `Parts`, none negative.

    Raises
    ------
    ValueError
        For weights that are not five numbers from zero up.
    """
    chosen = np.asarray(weights, np.float64)
    if chosen.shape != (len(Parts._fields),) or not (np.isfinite(chosen) & (chosen >= 0)).all():
        raise ValueError("five weights are needed, each a number from zero up")
    total = np.zeros(parts.size.shape)
    for part, weight in zip(parts, chosen.tolist(), strict=True):
        if weight > 0:
            total = total + weight * part
    return total


def ask_shares(group: IntArray, groups: int, side: Sides, contracts: IntArray) -> FloatArray:
    """Contracts on the ask side over all with a known side, by group, shape (groups,); NaN where no side is known."""
    bought, sold = (np.bincount(group, np.where(side == sign, contracts, 0), groups) for sign in (1, -1))
    with np.errstate(invalid="ignore"):
        share: FloatArray = bought / (bought + sold)
    return share


@njit(cache=True, nogil=True)
def _look_back(premium: FloatArray, owner: IntArray, largest: FloatArray, sessions: IntArray, first: BoolArray) -> None:
    today = np.zeros(largest.shape[0])
    for i in range(premium.size):
        row, back, seen = owner[i], 0, today[owner[i]] >= premium[i]
        if not seen:
            for t in range(largest.shape[1] - 1, -1, -1):
                if np.isnan(largest[row, t]):
                    continue
                back += 1
                if largest[row, t] >= premium[i]:
                    seen = True
                    break
        sessions[i], first[i] = back, not seen
        today[row] = max(today[row], premium[i])


@njit(cache=True, nogil=True)
def _count_below(premium: FloatArray, owner: IntArray, ordered: FloatArray, below: FloatArray) -> None:
    for i in range(premium.size):
        below[i] = np.searchsorted(ordered[owner[i]], premium[i])
