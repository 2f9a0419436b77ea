"""What can stand in the way of the store, apart from what it is made of: a start tells it before it has imported that."""

from __future__ import annotations

from flinch.errors import FlinchError


class DatabaseAway(FlinchError):
    """The database does not answer. What was asked did not happen; asking again is safe."""

    status, kind = 503, "database_away"
    words = "The database does not answer. Nothing was changed; Flinch asks again by itself until it is back."

    def __init__(self) -> None:
        super().__init__(self.words)


class OutcomeUnknown(DatabaseAway):
    """The database went away while it was told to keep a change: whether it did is not known."""

    kind = "outcome_unknown"
    words = (
        "The database went away while it kept this change, so whether it did is not known. Flinch asks again by itself under the "
        "same key, which does nothing twice."
    )


class DiskFull(FlinchError):
    """The database has no room to write. Nothing was changed."""

    status, kind = 507, "disk_full"

    def __init__(self) -> None:
        super().__init__(
            "The disk that the database writes to is full. Nothing was changed. Make room on it and try again."
        )


class CannotMigrate(Exception):
    """The tables cannot be brought up to date; the message says what to do."""
