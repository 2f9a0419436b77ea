"""Chosen structures as one book: what moves all of them at once."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray

MOVES = (-2.0, -1.0, 1.0, 2.0)
LEAST_SHARED = 60
"""Sessions that two names must share for a correlation."""


class Together(NamedTuple):
    """`at_moves`: profit ($) of each structure when every name moves by each of `MOVES` of its own expected days at once,
    (structures, moves); `correlation` of the names' daily returns, (names, names), NaN with fewer than 60 shared sessions;
    `worst` the profit of each structure on the worst joint day of the past, and `worst_at` its place among the sessions, NaN and
    -1 without one."""

    at_moves: FloatArray
    correlation: FloatArray
    worst: FloatArray
    worst_at: int


def together(
    name: IntArray, prices: FloatArray, profit: FloatArray, spot: FloatArray, move: FloatArray, returns: FloatArray
) -> Together:
    """What several structures do when their names move at once.

    Parameters
    ----------
    name
        Of each structure, a row of the names; shape (structures,).
    prices, profit
        Curves of each structure: prices of its name, ascending, and profit ($) at once there; shape (structures, points).
    spot, move
        Price and one-day expected move ($) of each name, shape (names,).
    returns
        Daily returns (not logarithmic), names x sessions.

    Returns
    -------
    `Together`. Beyond its curve a structure keeps the profit at the end; a day on which a name has no return is left out.
    """
    at_moves = np.empty((name.size, len(MOVES)))
    for i, n in enumerate(name.tolist()):
        at_moves[i] = np.interp(spot[n] + np.array(MOVES) * move[n], prices[i], profit[i])
    known = np.isfinite(returns)
    names = returns.shape[0]
    correlation = np.full((names, names), np.nan)
    for a in range(names):
        for b in range(a, names):
            both = known[a] & known[b]
            if both.sum() >= LEAST_SHARED:
                found = 1.0 if a == b else float(np.corrcoef(returns[a, both], returns[b, both])[0, 1])
                correlation[a, b] = correlation[b, a] = found
    days = np.flatnonzero(known[np.unique(name)].all(axis=0))
    if not days.size:
        return Together(at_moves, correlation, np.full(name.size, np.nan), -1)
    each = np.empty((name.size, days.size))
    for i, n in enumerate(name.tolist()):
        each[i] = np.interp(spot[n] * (1 + returns[n, days]), prices[i], profit[i])
    worst = int(each.sum(axis=0).argmin())
    return Together(at_moves, correlation, each[:, worst], int(days[worst]))
