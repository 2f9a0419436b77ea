"""Contracts, packages and rolls of a table of tickets, in words."""

from __future__ import annotations

from flinch.core.flow import FORMS
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


def roll_words(day: TicketDay, ticket: int) -> str | None:
    """The roll that a ticket is a side of: from which contract to which, and the premium of both."""
    other = int(day.columns["roll"][ticket])
    if other < 0:
        return None
    sold, bought = (ticket, other) if day.columns["side"][ticket] == 0 else (other, ticket)
    premium = day.columns["premium"]
    return rolled_words(_contract(day, sold), _contract(day, bought), float(premium[sold]), float(premium[bought]))
