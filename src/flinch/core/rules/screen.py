"""A stack of rules over a universe: who survives, and which rule did the cutting."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.rules.functions import Truth

MAX_RULES = 60


class Rung(NamedTuple):
    """One step of the stack: a rule, or several of which `any` one or `all` must hold. Members are indices of rules."""

    members: tuple[int, ...]
    mode: Literal["any", "all"] = "all"


class RuleCount(NamedTuple):
    """One rule's part, counted over all names and sessions given.

    `reached` names came to its step, `survivors` of them are left after the step, `met` meet this rule itself and `missing`
    have no answer. `lone_cut` would come back if only this rule were dropped; below zero it brings that many in, which happens
    among rules of which any one is enough.
    """

    reached: int
    survivors: int
    met: int
    missing: int
    lone_cut: int


class ScreenResult(NamedTuple):
    """Names that survive every step, in the shape of the universe, and a count for each rule."""

    survivors: BoolArray
    counts: list[RuleCount]


def run_screen(truths: Sequence[Truth | None], rungs: Sequence[Rung], universe: BoolArray) -> ScreenResult:
    """Apply the steps in order.

    Parameters
    ----------
    truths
        The answer of each rule for every name, all of the universe's shape: (names,) for one session, (names, sessions) for
        every session at once. None is a rule without edges: it cuts nothing, loses nobody and decides nothing.
    rungs
        Each rule belongs to at most one; rules in none take no part.
    universe
        Who takes part.

    Returns
    -------
    `ScreenResult`. Unknown does not survive: a step of "all" needs every answer to be yes, a step of "any" one of them.
    """
    alive = universe.copy()
    failed = np.zeros(universe.shape, dtype=np.uint8)
    passes: list[BoolArray] = []
    flat: list[Rung] = []
    for rung in rungs:
        real = tuple(member for member in rung.members if truths[member] is not None)
        # "All" within a step is what steps are to each other.
        flat += [Rung((member,)) for member in real] if rung.mode == "all" else [Rung(real, "any")] if real else []
    counts: dict[int, RuleCount] = {}
    for rung in flat:
        answers = [answer for member in rung.members if (answer := truths[member]) is not None]
        met = answers[0].yes if len(answers) == 1 else np.logical_or.reduce([answer.yes for answer in answers])
        reached = int(np.count_nonzero(alive))
        for member, answer in zip(rung.members, answers, strict=True):
            known = answer.yes | answer.no
            counts[member] = RuleCount(
                reached, 0, int(np.count_nonzero(alive & answer.yes)), reached - int(np.count_nonzero(alive & known)), 0
            )
        alive &= met
        failed += ~met
        passes.append(met)
        left = int(np.count_nonzero(alive))
        counts.update({member: counts[member]._replace(survivors=left) for member in rung.members})
    lone = (failed == 1) & universe
    for rung, met in zip(flat, passes, strict=True):
        if len(rung.members) == 1:
            back = int(np.count_nonzero(lone & ~met))
            counts[rung.members[0]] = counts[rung.members[0]]._replace(lone_cut=back)
            continue
        holders = np.sum([answer.yes for member in rung.members if (answer := truths[member]) is not None], axis=0)
        only = (holders == 1) & alive
        for member in rung.members:
            answer = truths[member]
            assert answer is not None
            brought = int(np.count_nonzero(only & answer.yes))
            counts[member] = counts[member]._replace(lone_cut=-brought)
    placed = _reached(truths, rungs, universe)
    out = []
    for index in range(len(truths)):
        reach = int(np.count_nonzero(placed[index])) if index in placed else 0
        out.append(counts.get(index) or RuleCount(reach, reach, reach, 0, 0))
    return ScreenResult(alive, out)


def _reached(truths: Sequence[Truth | None], rungs: Sequence[Rung], universe: BoolArray) -> dict[int, BoolArray]:
    """For each rule the names that came to it."""
    alive, out = universe.copy(), {}
    for rung in rungs:
        answers = [answer for member in rung.members if (answer := truths[member]) is not None]
        if rung.mode == "any":
            out.update(dict.fromkeys(rung.members, alive))
            if answers:
                alive = alive & np.logical_or.reduce([answer.yes for answer in answers])
            continue
        for member in rung.members:
            out[member] = alive
            answer = truths[member]
            alive = alive if answer is None else alive & answer.yes
    return out


class Edge(NamedTuple):
    """Where an edge would have to stand, and how many names that leaves; None is open, when all there are is too few."""

    edge: Literal["lower", "upper"]
    value: float | None
    names: int


def aim(values: np.ndarray, eligible: BoolArray, lower: float | None, upper: float | None, wanted: int) -> list[Edge]:
    """Where each edge of a range would have to stand for `wanted` names to survive, the other edge staying.

    Parameters
    ----------
    values
        The number that the range is on, shape (names,), NaN where missing.
    eligible
        Who survives every other rule.
    lower, upper
        The edges now, None where open.
    wanted
        At least 1.

    Returns
    -------
    An edge that is set, or either when both are open, with the value nearest to `wanted`: at most that many survive unless
    equal values stand together. Nothing when no value is known.
    """
    found = []
    with np.errstate(invalid="ignore"):
        for edge in ("lower", "upper"):
            if (lower is None, upper is None) in ((True, False), (False, True)) and (
                lower if edge == "lower" else upper
            ) is None:
                continue
            inside = eligible & np.isfinite(values)
            if edge == "lower" and upper is not None:
                inside &= values <= upper
            if edge == "upper" and lower is not None:
                inside &= values >= lower
            ordered = np.sort(values[inside])
            if not ordered.size:
                continue
            if wanted >= ordered.size:
                found.append(Edge(edge, None, int(ordered.size)))
                continue
            turned = ordered if edge == "lower" else -ordered[::-1]
            value = _plain_above(turned, wanted) * (1 if edge == "lower" else -1)
            left = int((ordered >= value).sum() if edge == "lower" else (ordered <= value).sum())
            found.append(Edge(edge, value, left))
    return found


def _plain_above(ordered: FloatArray, count: int) -> float:
    """The number with the fewest digits at or above which the last `count` of `ordered` values stand, and no others."""
    last = float(ordered[-count])
    below = ordered[ordered < last]
    floor = float(below[-1]) if below.size else -np.inf
    for digits in range(-9, 10):
        step = 10.0**-digits
        plain = round(float(np.floor(last / step + 1e-9)) * step, max(digits, 0))
        if floor < plain <= last:
            return plain
    return last
