"""The one error that a rule's text can cause."""

from __future__ import annotations

from flinch.errors import FlinchError


class RuleError(FlinchError, ValueError):
    """What is wrong with a rule and what to do about it.

    `start` and `end` count characters of the text from 0, `end` beyond the last; `nearest` are known names like one that is
    not known.
    """

    kind = "bad_rule"

    def __init__(self, message: str, start: int = 0, end: int | None = None, nearest: list[str] | None = None) -> None:
        super().__init__(message)
        self.where = f"character {start + 1}"
        self.message = message
        self.start = start
        self.end = start + 1 if end is None else end
        self.nearest = nearest or []
