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
from flinch.core.moves.expected import expected_move, overnight_share, variance_gone
from flinch.core.moves.ledger import (
    MEAN_SIZE,
    PROMISED,
    Outcomes,
    ReportMoves,
    Verdict,
    cycle_outcomes,
    ledger_verdict,
    report_moves,
    sellers_won,
)
from flinch.core.moves.straddle import atm_straddle

__all__ = [
    "MEAN_SIZE",
    "PROMISED",
    "CycleBands",
    "Cycles",
    "Outcomes",
    "ReportMoves",
    "Verdict",
    "atm_straddle",
    "band_position",
    "cycle_bands",
    "cycle_ends",
    "cycle_outcomes",
    "cycles",
    "expected_move",
    "fan",
    "ledger_verdict",
    "overnight_share",
    "report_moves",
    "running_ends",
    "sellers_won",
    "variance_gone",
]
