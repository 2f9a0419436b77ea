"""What each rule of a stack is and did, as it goes over the wire: the same for every table of things."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Literal

import numpy as np
from pydantic import BaseModel, Field

from flinch.core.arrays import FloatArray
from flinch.core.rules import METRICS, aim_among, distribution, spread
from flinch.core.rules.catalogue import Scale
from flinch.screening.columns import Described, describe
from flinch.screening.run import Ran


class RuleError(BaseModel):
    """Why a rule cannot be read: characters count from 0, `end` beyond the last."""

    message: str
    start: int
    end: int
    nearest: list[str]


class Histogram(BaseModel):
    """The number among the names that reached the rule; the outer bins hold what lies beyond them too."""

    edges: list[float]
    counts: list[int]


class Choice(BaseModel):
    """A category among the names that reached the rule."""

    value: str
    count: int


class AimEdge(BaseModel):
    """Where an edge would have to stand, and how many names that leaves; no value is open, when all there are is too few."""

    edge: Literal["lower", "upper"]
    value: float | None
    names: int


class RuleReport(BaseModel):
    """What one rule is and did."""

    error: RuleError | None
    kind: Literal["range", "choice", "condition"]
    subject: str = Field(description="The text that the range or the choice is on")
    metric: str | None = Field(description="Its key, when it is a metric by itself")
    label: str
    unit: str
    decimals: int
    scale: Literal["linear", "log"]
    lower: float | None
    upper: float | None
    lower_open: bool
    upper_open: bool
    values: list[str] | None
    parts: list[str] = Field(description="The conditions that an “and” joins, as rules of their own")
    takes_part: bool
    reached: int
    survivors: int
    met: int = Field(description="Names that reached it and meet it by themselves")
    missing: int = Field(description="Names that reached it and were lost because the answer is not known")
    lone_cut: int = Field(
        description="Names that would come back if only this rule were dropped; below zero it brings them in"
    )
    unknown: int = Field(description="Names that reached it and have no value, lost or not")
    histogram: Histogram | None
    choices: list[Choice] | None
    aim: list[AimEdge]


SpreadOf = Callable[[str, FloatArray, Scale], tuple[float, float]]
"""Where a histogram of a number among the universe begins and ends, by the key of its expression."""


def rule_reports(
    own: dict[str, Described], ran: Ran, aimed_at: int | None, spread_of: SpreadOf | None = None
) -> list[RuleReport]:
    """A report for each rule; `own` describes what is no metric of names, `aimed_at` is how many shall survive."""
    plain: SpreadOf = lambda key, values, scale: spread(values[ran.universe], scale)  # noqa: E731
    return [_report(own, ran, place, aimed_at, spread_of or plain) for place in range(len(ran.rules))]


def _report(own: dict[str, Described], ran: Ran, place: int, wanted: int | None, spread_of: SpreadOf) -> RuleReport:
    rule, count, reached = ran.rules[place], ran.result.counts[place], ran.result.reached[place]
    shape = rule.expression.shape if rule.expression else None
    subject = shape.subject if shape else ""
    described = describe(subject, own, shape.node.kind if shape and shape.node else "condition")
    histogram, choices, unknown, edges = None, None, count.missing, list[AimEdge]()
    if shape is not None and shape.node is not None and rule.subject is not None and shape.kind == "range":
        values = rule.subject.values
        bounds = spread_of(shape.node.key, values, described.scale)
        bars = distribution(values, bounds, described.scale, reached)
        histogram = Histogram(edges=bars.edges.tolist(), counts=bars.counts.tolist())
        unknown = int((np.isnan(values) & reached).sum())
        if wanted is not None and rule.body.on:
            truths = [other.truth for other in ran.rules]
            found_edges = aim_among(values, place, truths, ran.rungs, ran.universe, shape.lower, shape.upper, wanted)
            edges = [AimEdge(**edge._asdict()) for edge in found_edges]
    elif shape is not None and rule.subject is not None and rule.subject.categories is not None:
        among = rule.subject.categories
        counted, every = among[reached].counts(), among[ran.universe].counts()
        unknown = int((among.codes[reached] < 0).sum())
        choices = [
            Choice(value=value, count=counted.get(value, 0))
            for value in sorted(set(every) | set(shape.values or ()))[:400]
        ]
    elif shape is not None and rule.subject is not None and rule.subject.texts is not None:
        found = Counter(rule.subject.texts[reached].tolist())
        unknown = found.pop("", 0)
        values_there = sorted(set(rule.subject.texts[ran.universe].tolist()) - {""} | set(shape.values or ()))
        choices = [Choice(value=value, count=found.get(value, 0)) for value in values_there[:400]]
    return RuleReport(
        error=RuleError(
            message=rule.error.message, start=rule.error.start, end=rule.error.end, nearest=rule.error.nearest
        )
        if rule.error
        else None,
        kind=shape.kind if shape else "condition",
        subject=subject,
        metric=subject if subject in METRICS or subject in own else None,
        label=described.label,
        unit=described.unit,
        decimals=described.decimals,
        scale=described.scale,
        lower=shape.lower if shape else None,
        upper=shape.upper if shape else None,
        lower_open=bool(shape and shape.lower_open),
        upper_open=bool(shape and shape.upper_open),
        values=list(shape.values) if shape and shape.values is not None else None,
        parts=list(shape.parts) if shape else [],
        takes_part=rule.takes_part,
        **count._asdict(),
        unknown=unknown,
        histogram=histogram,
        choices=choices,
        aim=edges,
    )
