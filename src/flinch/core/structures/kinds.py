"""Kinds of structures as data: which legs each has, and which of them are placed and which follow by a width."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import Literal, NamedTuple

Shape = Literal["single", "pair", "same", "two", "condor", "fly", "wide fly", "body", "calendar", "diagonal"]


class LegRole(NamedTuple):
    """One leg: contracts a unit (+ bought), whether a call, whether it is of the later expiration."""

    quantity: int
    is_call: bool
    later: bool = False


class Structure(NamedTuple):
    """A kind of structure.

    `legs` come by strike, lowest first. `shape` says how their strikes are chosen: one placed leg ("single"); one placed leg and
    one a width away ("pair"); a put and a call of one placed strike ("same"); a put placed below and a call above ("two"); those
    two and one a width beyond each ("condor"); a placed middle with wings of one width ("fly"), of two different ones ("wide
    fly"), of puts and calls ("body"); one strike in two expirations ("calendar"), or two a width apart ("diagonal"). `placed`
    is which leg, by its place, is placed; of two it is the first. `lean` is the direction it wants, `shares` what is held
    beside it."""

    key: str
    label: str
    shape: Shape
    legs: tuple[LegRole, ...]
    placed: int = 0
    lean: int = 0
    shares: int = 0

    @property
    def credit(self) -> bool:
        """Whether its placed leg is sold."""
        return self.legs[self.placed].quantity < 0


_BUY_C, _SELL_C, _SELL_2C = LegRole(1, True), LegRole(-1, True), LegRole(-2, True)
_BUY_P, _SELL_P, _SELL_2P = LegRole(1, False), LegRole(-1, False), LegRole(-2, False)
_LATER_C, _LATER_P = LegRole(1, True, later=True), LegRole(1, False, later=True)

_ENTRIES = (
    Structure("long_call", "Long call", "single", (_BUY_C,), lean=1),
    Structure("long_put", "Long put", "single", (_BUY_P,), lean=-1),
    Structure("covered_call", "Covered call", "single", (_SELL_C,), lean=1, shares=1),
    Structure("cash_secured_put", "Cash-secured put", "single", (_SELL_P,), lean=1),
    Structure("put_credit", "Put credit vertical", "pair", (_BUY_P, _SELL_P), placed=1, lean=1),
    Structure("call_credit", "Call credit vertical", "pair", (_SELL_C, _BUY_C), placed=0, lean=-1),
    Structure("call_debit", "Call debit vertical", "pair", (_BUY_C, _SELL_C), placed=1, lean=1),
    Structure("put_debit", "Put debit vertical", "pair", (_SELL_P, _BUY_P), placed=0, lean=-1),
    Structure("long_straddle", "Long straddle", "same", (_BUY_P, _BUY_C)),
    Structure("short_straddle", "Short straddle", "same", (_SELL_P, _SELL_C)),
    Structure("long_strangle", "Long strangle", "two", (_BUY_P, _BUY_C)),
    Structure("short_strangle", "Short strangle", "two", (_SELL_P, _SELL_C)),
    Structure("iron_condor", "Iron condor", "condor", (_BUY_P, _SELL_P, _SELL_C, _BUY_C), placed=1),
    Structure("iron_butterfly", "Iron butterfly", "body", (_BUY_P, _SELL_P, _SELL_C, _BUY_C), placed=1),
    Structure("call_butterfly", "Call butterfly", "fly", (_BUY_C, _SELL_2C, _BUY_C), placed=1),
    Structure("put_butterfly", "Put butterfly", "fly", (_BUY_P, _SELL_2P, _BUY_P), placed=1),
    Structure("broken_wing_call", "Broken-wing call butterfly", "wide fly", (_BUY_C, _SELL_2C, _BUY_C), placed=1),
    Structure("broken_wing_put", "Broken-wing put butterfly", "wide fly", (_BUY_P, _SELL_2P, _BUY_P), placed=1),
    Structure("call_calendar", "Call calendar", "calendar", (_SELL_C, _LATER_C)),
    Structure("put_calendar", "Put calendar", "calendar", (_SELL_P, _LATER_P)),
    Structure("call_diagonal", "Call diagonal", "diagonal", (_LATER_C, _SELL_C), placed=1, lean=1),
    Structure("put_diagonal", "Put diagonal", "diagonal", (_SELL_P, _LATER_P), placed=0, lean=-1),
    Structure("call_ratio", "Call ratio spread", "pair", (_BUY_C, _SELL_2C), placed=1, lean=1),
    Structure("put_ratio", "Put ratio spread", "pair", (_SELL_2P, _BUY_P), placed=0, lean=-1),
    Structure("risk_reversal", "Risk reversal", "two", (_SELL_P, _BUY_C), lean=1),
    Structure("collar", "Collar", "two", (_BUY_P, _SELL_C), lean=1, shares=1),
)  # fmt: skip

STRUCTURES: dict[str, Structure] = {entry.key: entry for entry in _ENTRIES}
"""Every kind that a search can ask for, by key. `shares` counts multiples of the contract's multiplier."""


class Recognised(NamedTuple):
    """A known kind, and how many units of it there are."""

    kind: Structure
    units: int


def recognise(
    quantity: Sequence[int], is_call: Sequence[bool], strike: Sequence[float], later: Sequence[bool], shares: float
) -> Recognised | None:
    """Which known kind legs make, if any.

    `later` says which legs outlive the first expiration; `shares` counts multiples of the contract's multiplier. Legs may come in
    any order; None where they make nothing that has a name here.
    """
    if not quantity:
        return None
    order = sorted(range(len(quantity)), key=lambda i: (strike[i], is_call[i], later[i]))
    units = math.gcd(*(abs(q) for q in quantity))
    legs = [LegRole(quantity[i] // units, is_call[i], later[i]) for i in order]
    strikes = [strike[i] for i in order]
    for kind in STRUCTURES.values():
        wanted = sorted(range(len(kind.legs)), key=lambda i: (i, kind.legs[i].is_call))
        if [kind.legs[i] for i in wanted] != legs or kind.shares * units != shares:
            continue
        rises = [b > a for a, b in itertools.pairwise(strikes)]
        alike = {"same": [False], "calendar": [False], "body": [True, False, True]}.get(kind.shape, [True] * len(rises))
        if rises != alike:
            continue
        if kind.shape in ("fly", "wide fly"):
            even = math.isclose(strikes[1] - strikes[0], strikes[2] - strikes[1])
            if even != (kind.shape == "fly"):
                continue
        return Recognised(kind, units)
    return None
