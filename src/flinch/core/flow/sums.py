"""What a session's tickets come to for each name: the daily sums that a history of flow is made of."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.flow.groups import highest
from flinch.core.flow.meaning import LIKELY
from flinch.core.flow.sides import Sides
from flinch.core.flow.tickets import SWEEP

REPEATED_PREMIUM = 10_000.0
"""From this premium on a ticket counts as one of several in the same contract."""
SUMS = (
    "call_ask_premium",
    "call_bid_premium",
    "call_mid_premium",
    "put_ask_premium",
    "put_bid_premium",
    "put_mid_premium",
    "package_premium",
    "sweep_premium",
    "outside_call_premium",
    "opening_call_premium",
    "opening_put_premium",
    "largest_call_premium",
    "largest_put_premium",
    "ask_contracts",
    "bid_contracts",
    "tickets",
    "repeats",
    "net_shares",
)
"""The sums, in the order in which the store keeps them."""


class Told(NamedTuple):
    """Tickets of a session, shape (tickets,): name, contract, right, side, kind (a place in `KINDS`), contracts, premium, whether
    its strike was out of the money, its opening (a place in `OPENING`), share equivalent (NaN where the side or delta is not
    known), and whether it is a leg of a package."""

    name: IntArray
    contract: IntArray
    is_call: BoolArray
    side: Sides
    kind: Sides
    contracts: IntArray
    premium: FloatArray
    outside: BoolArray
    opening: Sides
    shares: FloatArray
    leg: BoolArray


def day_sums(told: Told, names: int, contracts: int) -> dict[str, FloatArray]:
    """Each of `SUMS` by name, shape (names,).

    Premium is in dollars by right and side; that of legs of packages is apart, in `package_premium`, and they count for nothing
    else but `net_shares`. `sweep_premium` is of sweeps; `outside_call_premium` of calls on the ask side out of the money;
    `opening_..._premium` of tickets on the ask side that are likely or certain to have opened; `largest_..._premium` of the
    largest ticket, 0 without one; `ask_contracts` and `bid_contracts` are contracts by side; `repeats` is the most tickets of
    `REPEATED_PREMIUM` or more on the ask side of one contract; `net_shares` the share equivalents added up, those that are not
    known left out.

    Parameters
    ----------
    told
        The session's tickets.
    names, contracts
        How many names there are, and contracts.
    """
    alone = ~told.leg
    bought, sold = told.side > 0, told.side < 0

    def total(which: BoolArray, values: FloatArray | IntArray = told.premium) -> FloatArray:
        summed: FloatArray = np.bincount(told.name[which], values[which], names).astype(np.float64)
        return summed

    def largest(which: BoolArray) -> FloatArray:
        return highest(told.name[which], names, told.premium[which])

    put = ~told.is_call
    opened = alone & bought & (told.opening >= LIKELY)
    repeated = alone & bought & (told.premium >= REPEATED_PREMIUM)
    of_contract = np.bincount(told.contract[repeated], minlength=contracts)
    repeats = highest(told.name[repeated], names, of_contract[told.contract[repeated]])
    sums = (
        *[total(alone & right & on) for right in (told.is_call, put) for on in (bought, sold, told.side == 0)],
        total(told.leg),
        total(alone & (told.kind == SWEEP)),
        total(alone & told.is_call & bought & told.outside),
        total(opened & told.is_call),
        total(opened & put),
        largest(alone & told.is_call),
        largest(alone & put),
        total(alone & bought, told.contracts),
        total(alone & sold, told.contracts),
        total(alone, np.ones(told.name.size)),
        repeats,
        total(np.isfinite(told.shares), told.shares),
    )
    return dict(zip(SUMS, sums, strict=True))
