"""Forwards from put-call parity, and the test a quote must pass before its mid is used."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray, smallest_rows


def usable_quote(bid: FloatArray, ask: FloatArray) -> BoolArray:
    """Whether the mid of a quote may be used.

    Parameters
    ----------
    bid, ask
        Of any one shape, in price units; NaN where not quoted.

    Returns
    -------
    True where bid > 0, ask >= bid and ask - bid <= max(0.10, 25 % of mid), same shape.
    """
    with np.errstate(invalid="ignore"):
        width = ask - bid
        return (bid > 0) & (width >= 0) & (width <= np.maximum(0.10, 0.125 * (ask + bid)) + 1e-12)


class ParityForwards(NamedTuple):
    """Forward per expiry, and whether it came from put-call parity (else from spot and rate)."""

    forward: FloatArray
    from_parity: BoolArray


def forwards_from_parity(
    group: IntArray,
    strike: FloatArray,
    call_mid: FloatArray,
    put_mid: FloatArray,
    *,
    spot: FloatArray,
    years: FloatArray,
    rate: float = 0.0,
    dividends: FloatArray | None = None,
) -> ParityForwards:
    """Forward of every expiry from the strike where call and put mids are nearest to each other.

    Parameters
    ----------
    group
        For each strike row the index of its expiry, 0 to groups - 1, shape (rows,).
    strike, call_mid, put_mid
        Shape (rows,), price units; a mid is NaN where the quote may not be used.
    spot, years
        Per expiry, shape (groups,).
    rate
        Continuously compounded, as a decimal.
    dividends
        Present value of the cash dividends to each expiry, shape (groups,); none: zero.

    Returns
    -------
    `ParityForwards`, shape (groups,). Without a pair of usable quotes the forward is (spot - dividends) * exp(rate * years),
    NaN when spot is.

    Notes
    -----
    F = K + exp(rT) (C - P) at the strike of smallest |C - P|. Stoll (1969), Journal of Finance 24(5).
    """
    growth = np.exp(rate * years)
    forward = (spot if dividends is None else spot - dividends) * growth
    from_parity = np.zeros(spot.shape, dtype=bool)
    gap = call_mid - put_mid
    best = smallest_rows(group, np.abs(gap), spot.size)
    owner = np.flatnonzero(best >= 0)
    forward[owner] = strike[best[owner]] + growth[owner] * gap[best[owner]]
    from_parity[owner] = True
    return ParityForwards(forward, from_parity)
