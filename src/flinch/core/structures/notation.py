"""Legs as a text: `-1P95@2026-10-16,+1P90@2026-10-16,+100S`, signed quantity, right, strike, expiration; S for shares."""

from __future__ import annotations

import datetime as dt
import re
from typing import NamedTuple

from flinch.core.structures.legs import MOST_LEGS
from flinch.errors import FlinchError

_OPTION = re.compile(r"([+-]?)(\d{1,4})([CP])(\d{1,7}(?:\.\d{1,4})?)@(\d{4}-\d\d-\d\d)")
_SHARES = re.compile(r"([+-]?)(\d{1,6})S")
MOST_QUANTITY = 1_000
MOST_SHARES = 999_999


class BadLegs(FlinchError):
    """Legs that cannot be read; `where` is the place in the text, counted from one."""

    kind = "bad_legs"

    def __init__(self, message: str, place: int) -> None:
        super().__init__(message)
        self.where = str(place)


class PlainLeg(NamedTuple):
    """One leg: signed quantity (+ bought), whether a call, strike, expiration."""

    quantity: int
    is_call: bool
    strike: float
    expiration: dt.date


class PlainLegs(NamedTuple):
    """A structure's options and the shares beside them."""

    options: list[PlainLeg]
    shares: int


def read_legs(text: str) -> PlainLegs:
    """Read a text of legs; raises BadLegs."""
    options: list[PlainLeg] = []
    shares, place = 0, 1
    for part in text.split(","):
        word = part.strip()
        at = place + len(part) - len(part.lstrip())
        place += len(part) + 1
        if match := _SHARES.fullmatch(word):
            shares += int(match[2]) * (-1 if match[1] == "-" else 1)
            continue
        match = _OPTION.fullmatch(word)
        if match is None:
            raise BadLegs(
                f"Leg {word[:30]!r} at character {at} cannot be read. Write a leg like -1P95@2026-10-16, shares like +100S.",
                at,
            )
        sign, quantity, right, strike, day = match.groups()
        try:
            expiration = dt.date.fromisoformat(day)
        except ValueError:
            raise BadLegs(f"There is no day {day} (character {at}).", at) from None
        if int(quantity) == 0:
            raise BadLegs(f"The leg at character {at} has a quantity of zero: give it one, or take it out.", at)
        if int(quantity) > MOST_QUANTITY:
            raise BadLegs(f"The leg at character {at} has more than {MOST_QUANTITY} contracts.", at)
        if float(strike) <= 0:
            raise BadLegs(f"The leg at character {at} has a strike of zero.", at)
        options.append(PlainLeg(int(quantity) * (-1 if sign == "-" else 1), right == "C", float(strike), expiration))
    if len(options) > MOST_LEGS:
        raise BadLegs(f"A structure has {MOST_LEGS} legs at most; these are {len(options)}.", 1)
    if abs(shares) > MOST_SHARES:
        raise BadLegs(f"A structure has {MOST_SHARES:,} shares at most; these are {abs(shares):,}.", 1)
    if not options and not shares:
        raise BadLegs("A structure needs a leg.", 1)
    return PlainLegs(options, shares)


def _strike(strike: float) -> str:
    """All digits that `read_legs` takes, and no more than it needs."""
    return f"{strike:.4f}".rstrip("0").rstrip(".")


def write_legs(legs: PlainLegs) -> str:
    """The text of legs, as `read_legs` reads it."""
    parts = [
        f"{leg.quantity:+d}{'C' if leg.is_call else 'P'}{_strike(leg.strike)}@{leg.expiration}" for leg in legs.options
    ]
    return ",".join([*parts, *([f"{legs.shares:+d}S"] if legs.shares else [])])


def leg_words(legs: PlainLegs) -> str:
    """Legs as a trader says them: bought first to last, the expiration once when it is the same."""
    days = {leg.expiration for leg in legs.options}
    one = len(days) == 1
    parts = [f"{legs.shares:+d} shares"] if legs.shares else []
    for leg in legs.options:
        day = "" if one else f" {leg.expiration:%-d %b}"
        count = "" if abs(leg.quantity) == 1 else f"{abs(leg.quantity)} "
        parts.append(
            f"{'+' if leg.quantity > 0 else '−'}{count}{_strike(leg.strike)} {'C' if leg.is_call else 'P'}{day}"
        )
    end = f" · {next(iter(days)):%-d %b}" if one else ""
    return " ".join(parts) + end
