"""On which side of the quote a trade was made."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray, broadcast_flat
from flinch.core.compiled import njit

Sides = NDArray[np.int8]

_NEAR = 1e-9
"""Prices are decimals that binary numbers miss by less than this, in parts of the price."""


def trade_side(price: FloatArray, bid: FloatArray, ask: FloatArray) -> Sides:
    """Whether each trade was made on the ask side, the bid side, or nobody knows.

    Parameters
    ----------
    price, bid, ask
        Of each trade and the quote it met, any one shape, price units; NaN where missing.

    Returns
    -------
    +1 at or through the ask and where the ask is nearer, -1 at or through the bid and where the bid is nearer; 0 exactly at mid
    and without a usable quote: one of the three missing, or the bid above the ask. A locked quote (bid = ask) tells of a trade
    above or below it, and nothing of one at it.

    Notes
    -----
    The quote rule of Lee & Ready (1991), "Inferring Trade Direction from Intraday Data", Journal of Finance 46(2).
    """
    flat, shape = broadcast_flat(price, bid, ask)
    out = np.empty(flat[0].size, np.int8)
    _sides(flat[0], flat[1], flat[2], out)
    return out.reshape(shape)


@njit("void(f8[::1], f8[::1], f8[::1], i1[::1])", cache=True, nogil=True)
def _sides(price: FloatArray, bid: FloatArray, ask: FloatArray, out: Sides) -> None:
    for i in range(price.size):
        away = 2.0 * price[i] - bid[i] - ask[i]
        if not bid[i] <= ask[i] or not abs(away) > _NEAR * abs(price[i]):
            out[i] = 0
        else:
            out[i] = 1 if away > 0.0 else -1
