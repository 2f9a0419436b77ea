"""How far options price a stock to move, and how far it has."""

from flinch.core.moves.expected import expected_move, one_day_move, spent
from flinch.core.moves.straddle import Straddle, atm_straddle

__all__ = ["Straddle", "atm_straddle", "expected_move", "one_day_move", "spent"]
