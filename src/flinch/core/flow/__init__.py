"""The tape: on which side options traded, which fills were one decision, and what such a decision points at."""

from flinch.core.flow.groups import SIDES, Groups, group_tickets, highest, place_of_highest
from flinch.core.flow.meaning import (
    CERTAIN,
    CONFIRMED,
    LIKELY,
    OPENING,
    UNKNOWN,
    opening,
    out_of_the_money,
    package_lean,
    share_equivalent,
    since,
    ticket_lean,
)
from flinch.core.flow.packages import FORMS, Legs, Packages, find_packages, find_rolls
from flinch.core.flow.sides import Sides, trade_side
from flinch.core.flow.sums import REPEATED_PREMIUM, SUMS, Told, day_sums
from flinch.core.flow.tickets import BLOCK, KINDS, SINGLE, SPLIT, SWEEP, Tickets, make_tickets
from flinch.core.flow.unusual import Novelty, Parts, ask_shares, novelty, size_rank, unusual, unusual_parts

__all__ = [
    "BLOCK",
    "CERTAIN",
    "CONFIRMED",
    "FORMS",
    "KINDS",
    "LIKELY",
    "OPENING",
    "REPEATED_PREMIUM",
    "SIDES",
    "SINGLE",
    "SPLIT",
    "SUMS",
    "SWEEP",
    "UNKNOWN",
    "Groups",
    "Legs",
    "Novelty",
    "Packages",
    "Parts",
    "Sides",
    "Tickets",
    "Told",
    "ask_shares",
    "day_sums",
    "find_packages",
    "find_rolls",
    "group_tickets",
    "highest",
    "make_tickets",
    "novelty",
    "opening",
    "out_of_the_money",
    "package_lean",
    "place_of_highest",
    "share_equivalent",
    "since",
    "size_rank",
    "ticket_lean",
    "trade_side",
    "unusual",
    "unusual_parts",
]
