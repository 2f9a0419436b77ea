from __future__ import annotations

import datetime as dt
from typing import Literal

from pydantic import BaseModel, Field, model_validator

from flinch.web.as_of import AS_OF, AsOf


class Coming(BaseModel):
    """What of the market is still being made, and how many percent of it are."""

    what: str
    percent: int


class MarketInfo(BaseModel):
    """What is loaded."""

    market: str = Field(description="Its name")
    source: str
    as_of: dt.datetime = Field(description="In exchange time")
    zone: str = Field(description="Of the exchange, an IANA name")
    version: int
    names: int
    sessions: list[dt.date] = Field(description="Every session held, oldest first")
    played: list[dt.date] = Field(description="Those that can be played again: their minutes are kept")
    opens: str = Field(description="When most sessions open, as hour:minute in exchange time")
    coming: Coming | None


class PlayedInfo(BaseModel):
    """What is known at a minute of a session that is played again; moments are in exchange time."""

    session: dt.date
    moment: dt.datetime
    opens: dt.datetime
    closes: dt.datetime
    chains: dt.datetime | None = Field(description="When chains were looked at last by then, as far as that is kept")
    trades: bool = Field(description="Whether option trades of the session are kept")
    prints: bool = Field(description="Whether off-exchange prints of it are kept")


RunTo = Literal["open", "close", "session"]


class RunAsked(BaseModel):
    """One of both: how fast, or where to."""

    speed: Literal[0, 1, 10, 60] | None = Field(None, description="Times as fast as the clock; 0: it stands still")
    to: RunTo | None = Field(
        None,
        description="As fast as it can, and then it stands still: to the next open, the next close, the same time of the next "
        "session",
    )

    @model_validator(mode="after")
    def one(self) -> RunAsked:
        if (self.speed is None) == (self.to is None):
            raise ValueError("say how fast, or where to: one of both")
        return self


class KindAgeInfo(BaseModel):
    """How old a kind of data is against how often it comes."""

    kind: str
    moment: dt.datetime | None = Field(description="Of its newest data, in exchange time")
    age: Literal["fresh", "late", "stopped", "closed"] = Field(description="`closed`: nothing is due")


class RunInfo(BaseModel):
    """How the market runs."""

    goes_on: bool = Field(description="Whether it has a source that goes on by itself")
    speed: int = Field(description="Times as fast as the clock; 0: it stands still, or runs to a moment")
    until: dt.datetime | None = Field(description="The moment that it runs to as fast as it can, in exchange time")
    behind: float = Field(description="Seconds of the market by which it is late")
    stopped: bool = Field(description="Whether it is to run and its source says nothing")
    ages: list[KindAgeInfo] = Field(description="Of each kind that comes while a session runs")


class JobPath(BaseModel):
    id: int = Field(ge=1)


class NameRow(BaseModel):
    symbol: str
    company: str
    kind: str
    sector: str


class NameList(BaseModel):
    names: list[NameRow]


class SymbolPath(BaseModel):
    symbol: str = Field(max_length=64)


class PeekQuery(BaseModel):
    as_of: AsOf | None = AS_OF


class Fact(BaseModel):
    """One metric of a name: a value, or the reason why there is none."""

    value: float | None
    reason: str | None = None


class LastHeadline(BaseModel):
    """The newest headline about a name."""

    at: dt.datetime
    headline: str = Field(description="Plain text")


class Peek(BaseModel):
    """The focused name at a glance."""

    symbol: str
    company: str
    kind: str
    sector: str
    session: dt.date
    facts: dict[str, Fact]
    news: LastHeadline | None = Field(description="Of the last five sessions")
    sessions: list[dt.date]
    iv30: list[float | None] = Field(description="Percent points, the last 252 sessions")
    hv21: list[float | None] = Field(description="Percent points, the last 252 sessions")
