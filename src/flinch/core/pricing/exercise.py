"""The exercise styles that can be priced."""

from __future__ import annotations

from typing import Literal, get_args

Exercise = Literal["european", "american"]


def is_american(exercise: str) -> bool:
    """Whether a style is the American one; raises ValueError for a style that is not priced, rather than take it for another."""
    if exercise not in get_args(Exercise):
        raise ValueError(f"exercise must be 'european' or 'american', not {exercise!r}")
    return exercise == "american"
