"""A session's option trades as tickets. Both publishing and the pages read them, so they lie below them and above the store."""

from flinch.tape.fills import WORDS, Doubts, clean, moment_of_day, tell_fills
from flinch.tape.session import Asked, SessionTape, compile_tape, name_sums, prices_at, read_session_tape
from flinch.tape.words import Contract, Paired, leg_words, paired_words, rolled_words

__all__ = [
    "WORDS",
    "Asked",
    "Contract",
    "Doubts",
    "Paired",
    "SessionTape",
    "clean",
    "compile_tape",
    "leg_words",
    "moment_of_day",
    "name_sums",
    "paired_words",
    "prices_at",
    "read_session_tape",
    "rolled_words",
    "tell_fills",
]
