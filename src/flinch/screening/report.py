"""What each rule of a stack is and did, as it goes over the wire: the same for every table of things."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Literal

from pydantic import BaseModel, Field

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.rules import BINS, METRICS, Binned, aim_among, binned, spread
from flinch.core.rules.catalogue import Scale
from flinch.market import Column
from flinch.screening.columns import Described, describe
from flinch.screening.run import Ran, RanRule


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


BinsOf = Callable[[str, Callable[[], FloatArray], Scale], Binned]
"""Bins of a number, from where it begins among the universe to where it ends there, by the key of its expression; its values are
read when they are needed."""


def bins_among(values: FloatArray, universe: BoolArray, scale: Scale) -> Binned:
    """Bins of a number, from where it begins among the universe to where it ends there."""
    return binned(values, spread(values[universe], scale), scale)


def rule_reports(
    own: dict[str, Described], ran: Ran, aimed_at: int | None, bins_of: BinsOf | None = None
) -> list[RuleReport]:
    """A report for each rule; `own` describes what is no metric of names, `aimed_at` is how many shall survive. `bins_of` may
    have the bins of many things from before."""

    def plain(_: str, values: Callable[[], FloatArray], scale: Scale) -> Binned:
        return bins_among(values(), ran.universe, scale)

    return [_report(own, ran, place, aimed_at, bins_of or plain) for place in range(len(ran.rules))]


def _report(own: dict[str, Described], ran: Ran, place: int, wanted: int | None, bins_of: BinsOf) -> RuleReport:
    rule, count, reached = ran.rules[place], ran.result.counts[place], ran.result.reached[place]
    shape = rule.expression.shape if rule.expression else None
    subject = shape.subject if shape else ""
    described = describe(subject, own, shape.node.kind if shape and shape.node else "condition")
    histogram, choices, unknown, edges = None, None, count.missing, list[AimEdge]()
    if shape is not None and shape.node is not None and shape.kind == "range":
        found = bins_of(shape.node.key, lambda: _values(rule), described.scale)
        counts = found.counts(reached).tolist()
        histogram, unknown = Histogram(edges=found.edges.tolist(), counts=counts[:BINS]), counts[BINS]
        if wanted is not None and rule.body.on:
            truths = [other.truth for other in ran.rules]
            found_edges = aim_among(
                _values(rule), place, truths, ran.rungs, ran.universe, shape.lower, shape.upper, wanted
            )
            edges = [AimEdge(**edge._asdict()) for edge in found_edges]
    elif shape is not None and shape.kind == "choice" and (subject_read := rule.subject) is not None:
        counted, every, unknown = _counted(subject_read, reached, ran.universe)
        offered = sorted(every | set(shape.values or ()))[:400]
        choices = [Choice(value=value, count=counted.get(value, 0)) for value in offered]
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


def _values(rule: RanRule) -> FloatArray:
    column = rule.subject
    assert column is not None
    return column.values


def _counted(column: Column, reached: BoolArray, universe: BoolArray) -> tuple[dict[str, int], set[str], int]:
    """How many of those that reached a rule have each text, the texts of the universe, and how many that reached it have none."""
    if column.categories is not None:
        codes = column.categories[reached]
        return codes.counts(), set(column.categories[universe].counts()), int((codes.codes < 0).sum())
    assert column.texts is not None
    counted = Counter(column.texts[reached].tolist())
    unknown = counted.pop("", 0)
    return counted, set(column.texts[universe].tolist()) - {""}, unknown
