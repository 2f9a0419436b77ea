"""The at-the-money straddle, the market's own price tag for a move."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray


class Straddle(NamedTuple):
    """Mid of call plus put per share, and their strike, shape (groups,)."""

    price: FloatArray
    strike: FloatArray


def atm_straddle(
    group: IntArray, strike: FloatArray, call_mid: FloatArray, put_mid: FloatArray, *, forward: FloatArray
) -> Straddle:
    """Straddle of every expiry at the nearer of the two strikes around its forward where both sides may be used.

    Parameters
    ----------
    group
        For each strike row the index of its expiry, shape (rows,).
    strike, call_mid, put_mid
        Shape (rows,), price units; a mid is NaN where the quote may not be used.
    forward
        Per expiry, shape (groups,).

    Returns
    -------
    `Straddle`; both parts NaN for an expiry where neither of the two may be used: further out, a straddle is mostly
    intrinsic value and says little about the move.
    """
    price = np.full(forward.shape, np.nan)
    at = np.full(forward.shape, np.nan)
    total = call_mid + put_mid
    distance = np.abs(strike - forward[group])
    above = strike >= forward[group]
    nearest = np.full((2, *forward.shape), np.inf)
    np.minimum.at(nearest, (above.astype(np.int64), group), distance)
    at_the_money = distance == nearest[above.astype(np.int64), group]
    rows = np.flatnonzero(np.isfinite(total) & at_the_money)
    if rows.size:
        order = rows[np.lexsort((distance[rows], group[rows]))]
        owner, first = np.unique(group[order], return_index=True)
        price[owner] = total[order[first]]
        at[owner] = strike[order[first]]
    return Straddle(price, at)
