from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field


class ScreenQuery(BaseModel):
    universe: Literal["all", "stock", "fund"] = "all"
    rule: list[str] = Field(
        [],
        max_length=60,
        description="Rules in order, each metric:lower..upper in the metric's unit; an edge left out is open",
    )


class Histogram(BaseModel):
    """The metric among the names that reached the rule; the outer bins hold what lies beyond them too."""

    edges: list[float]
    counts: list[int]


class RuleReport(BaseModel):
    """What one rule did."""

    metric: str
    lower: float | None
    upper: float | None
    reached: int
    survivors: int
    missing: int = Field(description="Names that reached the rule and were lost because the value is missing")
    lone_cut: int = Field(description="Names that would come back if only this rule were dropped")
    unknown: int = Field(description="Names that reached the rule and have no value, lost or not")
    histogram: Histogram


class ScreenReply(BaseModel):
    """Survivors, column by column, and the funnel."""

    version: int
    universe: int
    symbols: list[str]
    companies: list[str]
    columns: dict[str, list[float | None]]
    reasons: dict[str, dict[str, str]] = Field(description="Why a value is missing, by metric and symbol")
    rules: list[RuleReport]
