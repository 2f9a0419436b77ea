"""What texts may use: the catalogue of metrics, and a user's own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from flinch.core.rules import Expression, Vocabulary, daily_vocabulary, intraday_vocabulary

BarLength = Literal["day", "60", "15", "5"]


@dataclass(frozen=True)
class Dictionary:
    """The names that a user's texts may use: the catalogue's and their own metrics."""

    daily: Vocabulary
    intraday: Vocabulary

    def read(self, text: str, bars: BarLength = "day") -> Expression:
        """Read a text for bars of a length; raises RuleError."""
        return (self.daily if bars == "day" else self.intraday).read(text)


PLAIN = Dictionary(daily_vocabulary(), intraday_vocabulary())
"""The catalogue alone."""
