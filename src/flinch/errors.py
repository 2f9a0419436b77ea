"""The root of what can stand in the way of a request."""

from __future__ import annotations


class FlinchError(Exception):
    """What was asked cannot be done; the message is a sentence for people that says what to do.

    Each class says by its `status` which of HTTP's answers it, and by its `kind`, a word for programs, what it is. `where` is the
    offending place, `nearest` are known words like one that is not known, `version` is what is kept now when a change was made on
    an older one, `wait` the seconds after which asking again may help.
    """

    status: int = 422
    kind: str = "bad_request"
    where: str | None = None
    version: int | None = None
    wait: int | None = None

    def __init__(self, message: str) -> None:
        super().__init__(message)
        self.nearest: list[str] = []
