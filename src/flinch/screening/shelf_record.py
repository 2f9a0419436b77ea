"""How often shelves held beside their placebo, as pages tell it."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from flinch.core.rules import percent
from flinch.core.shelves import LEAST_SESSIONS, Compared


class RecordRow(BaseModel):
    """How often tests held, beside the same at the same distance on the other side of price."""

    of: str
    held_pct: float | None
    placebo_pct: float | None
    difference: float | None = Field(description="Percentage points")
    low: float | None
    high: float | None
    tests: int
    placebo_tests: int
    sessions: int
    verdict: Literal["too few", "none", "above", "below"]
    sentence: str


def record_row(of: str, found: Compared) -> RecordRow:
    """What a comparison says, in percent."""

    return RecordRow(
        of=of,
        held_pct=percent(found.held),
        placebo_pct=percent(found.placebo),
        difference=percent(found.difference),
        low=percent(found.low),
        high=percent(found.high),
        tests=found.tests,
        placebo_tests=found.placebo_tests,
        sessions=found.sessions,
        verdict=found.verdict,
        sentence=_sentence(found),
    )


def _sentence(found: Compared) -> str:
    if not found.tests:
        return "No test has been decided."
    if found.verdict == "too few":
        return f"Too few to say: tests in {found.sessions} sessions, {LEAST_SESSIONS} are needed."
    return {
        "none": "A shelf is no better than a price at the same distance where nothing was printed.",
        "above": "Shelves held more often than prices at the same distance where nothing was printed.",
        "below": "Shelves held less often than prices at the same distance where nothing was printed.",
    }[found.verdict]
