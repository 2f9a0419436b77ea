from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.market import Table


class MetricEntry(BaseModel):
    """What a number means."""

    key: str
    label: str
    short: str
    unit: str
    group: str
    definition: str
    formula: str = Field(description="The expression that computes it, in the rule language")
    source: str
    scale: Literal["linear", "log"]
    decimals: int
    kind: Literal["number", "condition", "text"]
    needs: list[str] = Field(description="Keys of what is read from the market to compute it")
    sessions: int | None = Field(description="Sessions of history it needs; none: all there are")
    intraday: bool = Field(description="Whether a rule on shorter bars may use it")
    own: int | None = Field(description="Its id, when it is one of the user's own")


class FunctionEntry(BaseModel):
    """What a function of the rule language does."""

    name: str
    group: str
    signature: str
    definition: str
    example: str


class Handbook(BaseModel):
    groups: list[str]
    metrics: list[MetricEntry]
    ticket_groups: list[str]
    tickets: list[MetricEntry] = Field(description="What rules on tickets may use beside the metrics of names")
    structure_groups: list[str]
    structures: list[MetricEntry] = Field(description="What rules on structures may use beside the metrics of names")
    functions: list[FunctionEntry]


class OwnMetricDraft(BaseModel):
    """A numeric expression to keep under a name."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    key: str = Field(min_length=1, max_length=40, description="The name that rules use: letters, digits and _")
    label: str = Field(min_length=1, max_length=80)
    unit: str = Field("", max_length=20)
    expression: str = Field(min_length=1, max_length=1_001)
    decimals: int = Field(2, ge=0, le=6)
    version: int | None = Field(
        None, ge=1, description="The version that the change was made on; none: whichever is kept"
    )


class OwnMetric(OwnMetricDraft):
    id: int
    problem: str | None = Field(description="Why it can no longer be computed")


class OwnMetricList(BaseModel):
    metrics: list[OwnMetric]


class OwnMetricPath(BaseModel):
    id: int = Field(ge=1, lt=2**31)


class CheckRequest(BaseModel):
    """A text to read without running it."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    text: str = Field(max_length=1_001)
    bars: Literal["day", "60", "15", "5"] = "day"
    table: Table = Field("names", description="What the rule is on")


class CheckReply(BaseModel):
    kind: Literal["number", "condition", "text"] | None
    sessions: int | None = Field(description="Sessions of history it needs; none: all there are")
    message: str | None
    start: int
    end: int
    nearest: list[str]
