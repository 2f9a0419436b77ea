"""Chosen structures as one book: what moves all of them at once."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray

MOVES = (-2.0, -1.0, 1.0, 2.0)


class Together(NamedTuple):
    """`at_moves`: profit ($) when every name moves by each of `MOVES` of its own expected days at once; `correlation` of the
    names' daily returns, (names, names), NaN with fewer than 60 shared sessions; `worst` the worst joint day of the past in $
    and `worst_at` its place among the sessions, -1 without one."""

    at_moves: FloatArray
    correlation: FloatArray
    worst: float
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
    at_moves = np.array(
        [
            sum(float(np.interp(spot[n] + k * move[n], prices[i], profit[i])) for i, n in enumerate(name.tolist()))
            for k in MOVES
        ]
    )
    known = np.isfinite(returns)
    names = returns.shape[0]
    correlation = np.full((names, names), np.nan)
    for a in range(names):
        for b in range(a, names):
            both = known[a] & known[b]
            if both.sum() >= 60:
                found = 1.0 if a == b else float(np.corrcoef(returns[a, both], returns[b, both])[0, 1])
                correlation[a, b] = correlation[b, a] = found
    days = np.flatnonzero(known[np.unique(name)].all(axis=0))
    if not days.size:
        return Together(at_moves, correlation, float("nan"), -1)
    total = np.zeros(days.size)
    for i, n in enumerate(name.tolist()):
        total += np.interp(spot[n] * (1 + returns[n, days]), prices[i], profit[i])
    worst = int(total.argmin())
    return Together(at_moves, correlation, float(total[worst]), int(days[worst]))
