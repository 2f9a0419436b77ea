"""Contracts, packages and rolls in words."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

from flinch.core.arrays import FloatArray


class Contract(NamedTuple):
    """A standard contract of a name."""

    strike: float
    is_call: bool
    expiration: dt.date

    @property
    def words(self) -> str:
        """As 105 call 18 Sep."""
        return f"{self.strike:g} {'call' if self.is_call else 'put'} {self.expiration:%-d %b}"


def leg_words(side: int, contracts: int, contract: Contract) -> str:
    """A leg of a package, bought on the ask side, sold on the bid side: bought 20 105 call 18 Sep."""
    return f"{ {1: 'bought', -1: 'sold', 0: 'traded'}[side] } {contracts:,} {contract.words}"


def rolled_words(sold: Contract, bought: Contract, before: float, after: float) -> str:
    """A roll: from which contract to which, and the premium of both."""
    strike = "the same strike" if bought.strike == sold.strike else "higher" if bought.strike > sold.strike else "lower"
    later = bought.expiration > sold.expiration
    when = "the same expiration" if bought.expiration == sold.expiration else "further out" if later else "nearer"
    return f"rolled from {sold.words} to {bought.words}: {strike}, {when}; ${before:,.0f} before, ${after:,.0f} after"


class Paired(NamedTuple):
    """What was put together from tickets, by name, shape (names,): rolls, packages that no source flags, and how many of either
    chance makes."""

    rolls: FloatArray
    rolls_by_chance: FloatArray
    packages: FloatArray
    packages_by_chance: FloatArray


def paired_words(paired: Paired) -> list[str]:
    """How many rolls, and packages that no source flags, were told, each with how many of them chance makes; none without any."""
    told = (
        ("roll", "rolls", paired.rolls, paired.rolls_by_chance),
        ("package", "packages", paired.packages, paired.packages_by_chance),
    )
    out = []
    for one, several, each, by_chance in told:
        if total := int(each.sum()):
            made = float(by_chance.sum())
            chance = f"about {made:,.0f}" if made >= 0.5 else "fewer than one"
            flagged = " that no source flags" if one == "package" else ""
            out.append(f"{total:,} {one if total == 1 else several}{flagged} (chance alone makes {chance})")
    return out
