"""The exercise styles that can be priced."""

from __future__ import annotations

from typing import Literal

Exercise = Literal["european"]


def require_european(exercise: str) -> None:
    """Raise ValueError for an exercise style that is not priced, rather than price it as another."""
    if exercise != "european":
        raise ValueError(f"exercise must be 'european', not {exercise!r}")
