"""How old the figures behind an expression may be before that has to be said beside its value."""

from __future__ import annotations

from typing import NamedTuple

from flinch.core.rules.catalogue import METRICS
from flinch.core.rules.nodes import Node, series_keys


class Aged(NamedTuple):
    """Figures that stay until newer ones come: the metric of their age, days after which newer ones are overdue, and what they
    are in words, followed by how many days ago."""

    age: str
    most: int
    words: str


_REPORT = Aged("fundamentals_age", 140, "of a quarter that ended")
_AGED = {
    **dict.fromkeys(("eps_ttm", "sales_per_share", "book_per_share", "fcf_per_share", "debt_to_equity"), _REPORT),
    **dict.fromkeys(("eps_next_year", "fair_value"), Aged("estimates_age", 100, "of an estimate told")),
    # Settled twice a month, and published two weeks after.
    **dict.fromkeys(("short_shares", "short_shares_before"), Aged("short_interest_age", 35, "of a settlement")),
}
assert _AGED.keys() <= METRICS.keys()


def aged(node: Node) -> list[Aged]:
    """What an expression reads of that kind, each once."""
    return list(dict.fromkeys(_AGED[key] for key in sorted(series_keys(node)) if key in _AGED))
