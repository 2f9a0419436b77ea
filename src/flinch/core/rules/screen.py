"""A stack of rules over a universe: who survives, and which rule did the cutting."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.rules.functions import Truth
from flinch.core.rules.shape import Shape

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
    """Names that survive every step, in the shape of the universe; for each rule its count, and the names that came to it."""

    survivors: BoolArray
    counts: list[RuleCount]
    reached: list[BoolArray]


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
    alive = universe
    failed = np.zeros(universe.shape, dtype=np.uint8)
    reached = [universe] * len(truths)
    counts = [RuleCount(0, 0, 0, 0, 0)] * len(truths)
    steps: list[tuple[list[int], BoolArray]] = []
    for rung in rungs:
        # "All" within a step is what steps are to each other.
        for members in [rung.members] if rung.mode == "any" else [(member,) for member in rung.members]:
            answers = {member: truth for member in members if (truth := truths[member]) is not None}
            came = alive
            if answers:
                met = _any_of([truth.yes for truth in answers.values()])
                failed += ~met
                alive = alive & met
                steps.append((list(answers), met))
            before, left = int(np.count_nonzero(came)), int(np.count_nonzero(alive))
            for member in members:
                reached[member] = came
                counts[member] = RuleCount(before, before, before, 0, 0)
                if member in answers:
                    yes, no = answers[member]
                    known = int(np.count_nonzero(came & (yes | no)))
                    counts[member] = RuleCount(before, left, int(np.count_nonzero(came & yes)), before - known, 0)
    lone = (failed == 1) & universe
    for members_met, met in steps:
        yeses = [truth.yes for member in members_met if (truth := truths[member]) is not None]
        if len(members_met) == 1:
            back = int(np.count_nonzero(lone & ~met))
            counts[members_met[0]] = counts[members_met[0]]._replace(lone_cut=back)
            continue
        only = (np.sum(yeses, axis=0) == 1) & alive
        for member, yes in zip(members_met, yeses, strict=True):
            counts[member] = counts[member]._replace(lone_cut=-int(np.count_nonzero(only & yes)))
    return ScreenResult(alive, counts, reached)


def _any_of(parts: list[BoolArray]) -> BoolArray:
    return parts[0] if len(parts) == 1 else np.logical_or.reduce(parts)


def between(values: FloatArray, shape: Shape) -> Truth:
    """Which values lie between the edges of a range, shape (things,); unknown where they are missing."""
    known = np.isfinite(values)
    with np.errstate(invalid="ignore"):
        yes = known.copy()
        if shape.lower is not None:
            yes &= values > shape.lower if shape.lower_open else values >= shape.lower
        if shape.upper is not None:
            yes &= values < shape.upper if shape.upper_open else values <= shape.upper
    return Truth(yes, known & ~yes)


class Edge(NamedTuple):
    """Where an edge would have to stand, and how many names that leaves; None is open, when all there are is too few."""

    edge: Literal["lower", "upper"]
    value: float | None
    names: int


def aim(
    values: np.ndarray,
    eligible: BoolArray,
    lower: float | None,
    upper: float | None,
    wanted: int,
    *,
    without: int | None = None,
) -> list[Edge]:
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
    without
        How many survive a rule without edges, which cuts nobody, whether its number is known or not; all who are eligible when
        left out.

    Returns
    -------
    An edge that is set, or either when both are open, with the value nearest to `wanted`: at most that many survive unless
    equal values stand together. Where all whose number is known are too few, opening the edge, or the edge that keeps them all,
    whichever comes nearer. Nothing when no value is known.
    """
    unbounded = int(np.count_nonzero(eligible)) if without is None else without
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
            other = upper if edge == "lower" else lower
            opened = unbounded if other is None else int(ordered.size)
            if wanted >= ordered.size and abs(opened - wanted) <= wanted - ordered.size:
                found.append(Edge(edge, None, opened))
                continue
            turned = ordered if edge == "lower" else -ordered[::-1]
            value = _plain_above(turned, min(wanted, ordered.size)) * (1 if edge == "lower" else -1)
            left = int((ordered >= value).sum() if edge == "lower" else (ordered <= value).sum())
            found.append(Edge(edge, value, left))
    return found


def aim_among(
    values: np.ndarray,
    place: int,
    truths: Sequence[Truth | None],
    rungs: Sequence[Rung],
    universe: BoolArray,
    lower: float | None,
    upper: float | None,
    wanted: int,
) -> list[Edge]:
    """Where the edges of one rule of a stack would have to stand for `wanted` names to survive, every other rule staying.

    Parameters
    ----------
    values
        The number that the rule is on, shape (names,), NaN where missing.
    place
        Index of the rule in `truths`.
    truths, rungs, universe
        The stack, as for `run_screen`.
    lower, upper
        The rule's edges now, None where open.
    wanted
        At least 1.

    Returns
    -------
    As of `aim`. Among rules of which any one is enough, names that the others let through survive whatever this one says; nothing
    when those are as many as wanted already.
    """
    eligible, already = universe.copy(), np.zeros(universe.shape, dtype=bool)
    alone = True
    for rung in rungs:
        others = [truth for member in rung.members if member != place and (truth := truths[member]) is not None]
        if rung.mode == "any" and place in rung.members:
            already = np.logical_or.reduce([truth.yes for truth in others]) if others else already
            alone = not others
        elif others:
            join = np.logical_or if rung.mode == "any" else np.logical_and
            eligible &= join.reduce([truth.yes for truth in others])
    through = int((eligible & already).sum())
    if wanted <= through:
        return []
    # Among rules of which any one is enough, one without edges decides nothing: the others do.
    found = aim(values, eligible & ~already, lower, upper, wanted - through, without=None if alone else 0)
    return [edge._replace(names=edge.names + through) for edge in found]


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
