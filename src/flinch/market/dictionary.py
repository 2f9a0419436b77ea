"""What texts may use: the catalogue of metrics, and a user's own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from flinch.core.rules import (
    Expression,
    RuleError,
    Vocabulary,
    daily_vocabulary,
    intraday_vocabulary,
    structure_vocabulary,
    ticket_vocabulary,
)

BarLength = Literal["day", "60", "15", "5"]


Table = Literal["names", "tickets", "structures"]
"""Tables of things that a stack of rules can run on."""


@dataclass(frozen=True)
class Dictionary:
    """The names that a user's texts may use on a table of things: the catalogue's and their own metrics. Only rules on names can
    be on shorter bars."""

    daily: Vocabulary
    intraday: Vocabulary | None = None

    def read(self, text: str, bars: BarLength = "day") -> Expression:
        """Read a text for bars of a length; raises RuleError."""
        if bars == "day":
            return self.daily.read(text)
        if self.intraday is None:
            raise RuleError(
                "Rules on tickets and structures use what is daily of their names. Put this rule on daily bars."
            )
        return self.intraday.read(text)

    def extended(self, formulas: dict[str, str], series: Mapping[str, str] | None = None) -> Dictionary:
        """This dictionary and a user's own metrics and daily series."""
        return Dictionary(self.daily.extended(formulas, series), self.intraday and self.intraday.extended(formulas))


PLAIN = Dictionary(daily_vocabulary(), intraday_vocabulary())
"""The catalogue alone, for names."""
PLAIN_TABLES: dict[Table, Dictionary] = {
    "names": PLAIN,
    "tickets": Dictionary(ticket_vocabulary()),
    "structures": Dictionary(structure_vocabulary()),
}
