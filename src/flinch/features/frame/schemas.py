from __future__ import annotations

import datetime as dt

from pydantic import BaseModel, Field


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
    coming: Coming | None


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
    as_of: dt.date | None = Field(None, description="The last session on or before this day; none: the newest")


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
