"""What a structure ties up: its greatest loss, or what the exchanges ask for one without bound."""

from __future__ import annotations

from typing import Any

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.compiled import njit

_SHARE, _LEAST_SHARE = 0.20, 0.10


@njit(cache=True, nogil=True, error_model="numpy")
def requirement(
    spot: float, uncovered: float, call_strike: float, puts: float, put_strike: float, received: float, multiplier: float
) -> float:  # fmt: skip
    """Margin of short options: of the larger side of `uncovered` short calls and short `puts`, 20 % of the spot less what the
    strike is out of the money, at least 10 % of the spot (of the strike for puts), a share; plus what was `received`, if
    anything."""
    call_side = put_side = 0.0
    if uncovered > 0.0:
        call_side = uncovered * max(_SHARE * spot - max(call_strike - spot, 0.0), _LEAST_SHARE * spot)
    if puts > 0.0:
        put_side = puts * max(_SHARE * spot - max(spot - put_strike, 0.0), _LEAST_SHARE * put_strike)
    return multiplier * max(call_side, put_side) + max(received, 0.0)


def capital(
    quantity: FloatArray, is_call: BoolArray, strike: FloatArray, shares: float, cost: float, spot: float, max_loss: float,
    *, multiplier: float = 100.0,
) -> float:  # fmt: skip
    """Money that a unit ties up, in $.

    Parameters
    ----------
    quantity, is_call, strike
        The structure's options, shape (legs,).
    shares, cost, multiplier
        As for `extremes`.
    spot
        Price of the name.
    max_loss
        Greatest loss, below zero; -inf when unbounded.

    Returns
    -------
    The greatest loss where it is bounded. Otherwise the published strategy-based minimum of the exchanges: for each unit of calls
    that neither calls nor shares cover, the larger of 20 % of the spot less the out-of-the-money amount and 10 % of the spot,
    or the same for the puts (10 % of the strike) when that is more, plus the premium received. NaN where an argument is missing.
    """
    if np.isfinite(max_loss):
        return -max_loss
    if not (np.isfinite(cost) and np.isfinite(spot)):
        return float("nan")
    uncovered = -float(quantity[is_call].sum()) - shares / multiplier
    short_calls, short_puts = is_call & (quantity < 0), ~is_call & (quantity < 0)
    call_strike = float(strike[short_calls].min()) if short_calls.any() else 0.0
    put_strike = float(strike[short_puts].max()) if short_puts.any() else 0.0
    puts = -float(quantity[~is_call].sum())
    need: Any = requirement(spot, uncovered, call_strike, puts, put_strike, -cost, multiplier)
    return float(need)
