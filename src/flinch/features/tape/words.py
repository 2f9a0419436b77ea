"""Contracts, packages and rolls of a table of tickets, in words."""

from __future__ import annotations

import math

from flinch.core.flow import FORMS
from flinch.core.structures import MOST_LEGS, PlainLeg, PlainLegs, write_legs
from flinch.core.structures.notation import MOST_QUANTITY
from flinch.market.tickets import TicketDay, contract_of
from flinch.tape import Contract, leg_words, rolled_words


def _contract(day: TicketDay, ticket: int) -> Contract:
    return contract_of(day.contracts, int(day.columns["contract"][ticket]))


def package_words(day: TicketDay, ticket: int) -> str | None:
    """The package that a ticket is a leg of: its form and all its legs."""
    package = int(day.columns["package"][ticket])
    if package < 0:
        return None
    side, contracts = day.columns["side"], day.columns["contracts"]
    legs = [
        leg_words(int(side[leg]) - 1, int(contracts[leg]), _contract(day, leg)) for leg in day.legs(package).tolist()
    ]
    return f"{FORMS[int(day.columns['package_form'][ticket])]}: {', '.join(legs)}"


def package_legs(day: TicketDay, ticket: int) -> str | None:
    """The package that a ticket is a leg of, as a structure's legs are written; None where a leg's side is not known."""
    package = int(day.columns["package"][ticket])
    if package < 0:
        return None
    rows = day.legs(package).tolist()
    side = [int(day.columns["side"][leg]) - 1 for leg in rows]
    if not all(side):
        return None
    contracts = [int(day.columns["contracts"][leg]) for leg in rows]
    unit = math.gcd(*contracts)
    if max(contracts) // unit > MOST_QUANTITY or len(rows) > MOST_LEGS:
        return None
    told = [_contract(day, leg) for leg in rows]
    legs = [
        PlainLeg(s * n // unit, c.is_call, c.strike, c.expiration)
        for s, n, c in zip(side, contracts, told, strict=True)
    ]
    return write_legs(PlainLegs(legs, 0))


def roll_words(day: TicketDay, ticket: int) -> str | None:
    """The roll that a ticket is a side of: from which contract to which, and the premium of both."""
    other = int(day.columns["roll"][ticket])
    if other < 0:
        return None
    sold, bought = (ticket, other) if day.columns["side"][ticket] == 0 else (other, ticket)
    premium = day.columns["premium"]
    return rolled_words(_contract(day, sold), _contract(day, bought), float(premium[sold]), float(premium[bought]))
