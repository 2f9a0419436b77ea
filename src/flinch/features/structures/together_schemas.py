from __future__ import annotations

import datetime as dt

from pydantic import BaseModel, ConfigDict, Field

from flinch.features.structures.one_schemas import LegsText
from flinch.web.as_of import AS_OF, AsOf

MOST_TOGETHER = 60


class OneOfThem(BaseModel):
    """A structure of a name."""

    model_config = ConfigDict(extra="forbid")
    symbol: str = Field(max_length=64)
    legs: LegsText


class TogetherAsked(BaseModel):
    """Structures to hold side by side, one unit of each."""

    model_config = ConfigDict(extra="forbid")
    structures: list[OneOfThem] = Field(min_length=1, max_length=MOST_TOGETHER)
    as_of: AsOf | None = AS_OF


class Gains(BaseModel):
    """What a structure, or all of them, would gain from now on; money in $."""

    delta: float | None = Field(description="$ an expected day up")
    gamma: float | None = Field(description="What an expected day up adds to `delta`")
    theta: float | None = Field(description="$ a day")
    vega: float | None = Field(description="$ a volatility point")
    at_moves: list[float | None] = Field(description="At once, by so many expected days of each name")
    worst: float | None = Field(description="On the worst joint day of the past")


class TogetherRow(BaseModel):
    symbol: str
    legs: str
    label: str
    words: str
    gains: Gains | None
    problem: str | None = Field(description="Why it is not counted")


class TogetherReply(BaseModel):
    """Structures together: what moves all of them at once."""

    version: int
    session: dt.date
    moves: list[float]
    rows: list[TogetherRow]
    total: Gains | None = Field(description="None when none is counted")
    worst_on: dt.date | None
    sessions: int = Field(description="Sessions of the past on which all names have a return")
    symbols: list[str] = Field(description="Names that are counted")
    correlation: list[list[float | None]] = Field(description="Of their daily returns, in that order")
