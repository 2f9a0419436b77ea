"""Evidence: how often a condition held, what followed in units of the expected move, and the base rates of the same."""

from flinch.core.evidence.study import LEAST_DAYS, MEASURES, Compared, Estimate, Study, moves_ahead, ranges_ahead, study
from flinch.core.evidence.targets import Reach, reach_of
from flinch.core.evidence.words import sentence, verdict

__all__ = [
    "LEAST_DAYS",
    "MEASURES",
    "Compared",
    "Estimate",
    "Reach",
    "Study",
    "moves_ahead",
    "ranges_ahead",
    "reach_of",
    "sentence",
    "study",
    "verdict",
]
