"""Contracts, packages and rolls in words, and the moments of tickets."""

from __future__ import annotations

import datetime as dt

from flinch.core.flow import FORMS
from flinch.market.tickets import TicketDay

_SIDED = ("sold", "traded", "bought")


def moment(session: dt.date, milliseconds: int) -> dt.datetime:
    """An instant from the milliseconds since the session's midnight in UTC."""
    return dt.datetime.combine(session, dt.time(), dt.UTC) + dt.timedelta(milliseconds=milliseconds)


def day_of(number: int) -> dt.date:
    """A date from days since 1970."""
    return dt.date(1970, 1, 1) + dt.timedelta(days=number)


def contract_words(strike: float, is_call: bool, expiration: dt.date) -> str:
    """A contract in words: 105 call 18 Sep."""
    return f"{strike:g} {'call' if is_call else 'put'} {expiration:%-d %b}"


def _contract(day: TicketDay, ticket: int) -> str:
    place = int(day.columns["contract"][ticket])
    c = day.contracts
    return contract_words(float(c["strike"][place]), bool(c["is_call"][place]), day_of(int(c["expiration"][place])))


def package_words(day: TicketDay, ticket: int) -> str | None:
    """The package that a ticket is a leg of: its form and all its legs."""
    package = int(day.columns["package"][ticket])
    if package < 0:
        return None
    form = FORMS[int(day.columns["package_form"][ticket])]
    told = [
        f"{_SIDED[int(day.columns['side'][leg])]} {int(day.columns['contracts'][leg]):,} {_contract(day, int(leg))}"
        for leg in day.legs(package).tolist()
    ]
    return f"{form}: {', '.join(told)}"


def roll_words(day: TicketDay, ticket: int) -> str | None:
    """The roll that a ticket is a side of: from which contract to which, and the premium of both."""
    other = int(day.columns["roll"][ticket])
    if other < 0:
        return None
    sold, bought = (ticket, other) if day.columns["side"][ticket] == 0 else (other, ticket)
    premium = day.columns["premium"]
    strike, days = float(day.columns["roll_strike_pct"][ticket]), float(day.columns["roll_days"][ticket])
    where = "the same strike" if strike == 0 else "higher" if strike > 0 else "lower"
    when = "the same expiration" if days == 0 else "further out" if days > 0 else "nearer"
    return (
        f"rolled from {_contract(day, sold)} to {_contract(day, bought)}: {where}, {when}; "
        f"${float(premium[sold]):,.0f} before, ${float(premium[bought]):,.0f} after"
    )
