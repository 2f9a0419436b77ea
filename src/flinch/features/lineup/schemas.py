from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.screening.body import Text
from flinch.web.as_of import AS_OF, AsOf

MOST_NAMES = 520
MOST_CORRELATED = 40

Baseline = Literal["yesterday", "mean21", "mean252", "hv", "forecast", "own"]


class LineupRequest(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    source: str = Field("sector:Optics & Orbital", max_length=80, description="As a screen's universe")
    metric: Text = Field("iv30", description="What is lined up: a metric, an own metric, or any expression")
    baseline: Baseline = "mean252"
    own: Text = Field("", description="The expression of an own baseline")
    x: Text = Field("hv21", description="Across, for the scatter")
    y: Text = Field("iv30", description="Up, for the scatter")
    as_of: AsOf | None = AS_OF


class Axis(BaseModel):
    """What an axis shows."""

    expression: str
    label: str
    unit: str
    decimals: int


class LineupRow(BaseModel):
    """One name; numbers in the metric's unit."""

    symbol: str
    company: str
    value: float | None
    baseline: float | None
    change: float | None
    ratio: float | None
    percentile: float | None = Field(description="Of the value within its own 252 sessions")
    deviations: float | None = Field(description="Distance from its own mean of 252 sessions, in standard deviations")
    x: float | None
    y: float | None
    reason: str | None = Field(description="Why value or baseline is missing")


class Callout(BaseModel):
    """Something that stands out, in words."""

    kind: str
    symbol: str
    words: str


class FundPart(BaseModel):
    """A fund against its members, session by session; volatilities in percent points."""

    symbol: str
    sessions: list[dt.date]
    implied_correlation: list[float | None]
    realised_correlation: list[float | None]
    iv30: list[float | None]
    members_iv30: list[float | None]
    percentile: float | None = Field(description="Of the implied correlation within its own 252 sessions")
    sentence: str


class Lineup(BaseModel):
    source: str
    session: dt.date
    newest: bool = Field(description="Whether this is the newest session")
    metric: Axis
    baseline: Axis
    x: Axis
    y: Axis
    rows: list[LineupRow]
    callouts: list[Callout]
    fund: FundPart | None


class CorrelationRequest(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    symbols: list[Annotated[str, Field(max_length=12)]] = Field(min_length=2, max_length=MOST_CORRELATED)
    sessions: int = Field(126, ge=42, le=504)
    as_of: AsOf | None = AS_OF


class Tie(BaseModel):
    """Two names and how alike they move."""

    first: str
    second: str
    correlation: float


class Correlations(BaseModel):
    """Correlation of daily returns; null where two names share fewer than 42 sessions."""

    symbols: list[str]
    sessions: int
    matrix: list[list[float | None]]
    average: float | None
    strongest: list[Tie]
    weakest: list[Tie]
    sentence: str
