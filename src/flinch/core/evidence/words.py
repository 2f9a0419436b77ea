"""What a study shows, in a sentence."""

from __future__ import annotations

from typing import Literal

from flinch.core.evidence.study import LEAST_DAYS, Study

Verdict = Literal["too few", "none", "above", "below"]


def verdict(found: Study, measure: str) -> Verdict:
    """too few, above, below or none: how the measure after the condition stands to all names on the same days."""
    if found.independent < LEAST_DAYS:
        return "too few"
    compared = found.measures[measure]
    if not compared.sure:
        return "none"
    return "above" if compared.against_days.value > 0 else "below"


def sentence(found: list[Study], fired_days: int, cases: int, sessions: int, *, side: str = "up") -> str:
    """What the studies of several horizons show together; `side` is the bet's: up, down, or an expression whose sign says it."""
    way, back = {"up": ("up", "down"), "down": ("down", "up")}.get(side, ("the way of the bet", "against the bet"))
    if not cases:
        return f"It never fired in the {sessions} sessions held, so there is nothing to say about what follows."
    often = f"It fired {cases:,} times on {fired_days} of {sessions} sessions."
    enough = [s for s in found if s.independent >= LEAST_DAYS]
    if not enough:
        most = max((s.independent for s in found), default=0)
        return (
            f"{often} Too few to say: at most {most} of its days are independent, and {LEAST_DAYS} are needed before chance "
            "can be told from habit."
        )
    told = []
    for measure, more, less in (
        ("mean", f"price went further {way} than", f"price went further {back} than"),
        ("size", "price moved more than", "price moved less than"),
        ("range", "price ranged wider than", "price ranged less wide than"),
    ):
        for s in enough:
            result = verdict(s, measure) if measure in s.measures else "none"
            if result in ("above", "below"):
                value = abs(s.measures[measure].against_days.value)
                words = more if result == "above" else less
                told.append(
                    f"over {_sessions(s.horizon)} {words} that of other names on the same days, by {value:.2f} expected moves"
                )
    silent = [s.horizon for s in found if s.independent < LEAST_DAYS]
    rest = f" Over {_listed(silent)} sessions it is too few to say." if silent else ""
    if not told:
        tested = _listed([s.horizon for s in enough])
        plural = "sessions" if enough[-1].horizon > 1 else "session"
        return f"{often} What followed over {tested} {plural} is no better than the base rate, in direction, size or range.{rest}"
    return f"{often} {_capital('; '.join(told))}.{rest}"


def _sessions(horizon: int) -> str:
    return "the next session" if horizon == 1 else f"{horizon} sessions"


def _listed(values: list[int]) -> str:
    words = [str(value) for value in values]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
