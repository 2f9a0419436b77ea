"""Evidence: how often a condition held, what followed in units of the expected move, and the base rates of the same."""

from flinch.core.evidence.past_touch import LEAST_WINDOWS, PastTouch, past_touch
from flinch.core.evidence.study import (
    LEAST_DAYS,
    MEASURES,
    Compared,
    Estimate,
    Study,
    moves_ahead,
    moves_from_open,
    ranges_ahead,
    study,
)
from flinch.core.evidence.targets import (
    Target,
    cycle_target,
    move_target,
    touched_by,
)
from flinch.core.evidence.touch import SpanSmile, flat_smile, span_smiles, touch_chance
from flinch.core.evidence.words import sentence, verdict

__all__ = [
    "LEAST_DAYS",
    "LEAST_WINDOWS",
    "MEASURES",
    "Compared",
    "Estimate",
    "PastTouch",
    "SpanSmile",
    "Study",
    "Target",
    "cycle_target",
    "flat_smile",
    "move_target",
    "moves_ahead",
    "moves_from_open",
    "past_touch",
    "ranges_ahead",
    "sentence",
    "span_smiles",
    "study",
    "touch_chance",
    "touched_by",
    "verdict",
]
