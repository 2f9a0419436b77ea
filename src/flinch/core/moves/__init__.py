"""Expected moves: what options price, in price units, and the cycles and bands they draw."""

from flinch.core.moves.cycles import (
    CycleBands,
    Cycles,
    band_position,
    cycle_bands,
    cycle_ends,
    cycles,
    fan,
    running_ends,
)
from flinch.core.moves.expected import expected_move, one_day_move, spent
from flinch.core.moves.straddle import atm_straddle

__all__ = [
    "CycleBands",
    "Cycles",
    "atm_straddle",
    "band_position",
    "cycle_bands",
    "cycle_ends",
    "cycles",
    "expected_move",
    "fan",
    "one_day_move",
    "running_ends",
    "spent",
]
