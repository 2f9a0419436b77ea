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
    priced_touch,
    smile_at,
    touch_chance,
    touched_by,
)
from flinch.core.evidence.words import sentence, verdict

__all__ = [
    "LEAST_DAYS",
    "LEAST_WINDOWS",
    "MEASURES",
    "Compared",
    "Estimate",
    "PastTouch",
    "Study",
    "Target",
    "cycle_target",
    "move_target",
    "moves_ahead",
    "moves_from_open",
    "past_touch",
    "priced_touch",
    "ranges_ahead",
    "sentence",
    "smile_at",
    "study",
    "touch_chance",
    "touched_by",
    "verdict",
]
