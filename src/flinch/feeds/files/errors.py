"""A file that cannot be read."""

from __future__ import annotations

from flinch.errors import FlinchError


class BadFile(FlinchError):
    """A file cannot be read as a table; the message says what to do."""

    status, kind = 422, "bad_file"

    def __init__(self, message: str, where: str | None = None) -> None:
        super().__init__(message)
        self.where = where


def short(error: BaseException) -> str:
    """What an error says, in a line."""
    return str(error).split("\n")[0][:160]
