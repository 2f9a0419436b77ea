"""The exercise styles that can be priced, and which names' options have which."""

from __future__ import annotations

from typing import Literal, get_args

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import BoolArray

Exercise = Literal["european", "american"]


def is_american(exercise: str) -> bool:
    """Whether a style is the American one; raises ValueError for a style that is not priced, rather than take it for another."""
    if exercise not in get_args(Exercise):
        raise ValueError(f"exercise must be 'european' or 'american', not {exercise!r}")
    return exercise == "american"


def exercised_early(kind: ArrayLike) -> BoolArray:
    """Whether options on names of a kind ("stock", "fund", "index"; any shape) may be exercised before they expire: all but those
    on an index."""
    found: BoolArray = np.asarray(kind) != "index"
    return found
