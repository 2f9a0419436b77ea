from __future__ import annotations

import datetime as dt

from pydantic import BaseModel, Field


class MarketRow(BaseModel):
    """A market, and what it has."""

    name: str
    source: str | None = Field(description="Where its data come from; none before anything was loaded")
    as_of: dt.datetime | None = Field(description="Its newest moment, in the zone of its exchange")
    missing: list[str] = Field(description="Kinds of data that it has none of")
    usable: bool = Field(description="Whether it has the least that pages need: names, daily bars and a chain")
    calendar: str
    currency: str
    index: str | None
    rate: float
    zone: str = Field(description="IANA name")


class MarketList(BaseModel):
    """The markets there are, and the one that this request is about."""

    market: str
    markets: list[MarketRow]


class HeldKind(BaseModel):
    """A kind of data: what it is, and what the market has of it."""

    kind: str
    words: str
    any: bool = Field(description="Whether there is a row at least")
    first: dt.date | None = Field(description="The first day that rows are of; none for a kind without days")
    last: dt.date | None
    sessions_behind: int | None = Field(
        description="Sessions from the last day to the newest bar; none where days lie ahead"
    )
    columns: list[str] = Field(description="Columns of a file of this kind, those of its key first")
    needed: list[str] = Field(description="Columns that such a file must have")
    loadable: bool = Field(description="Whether files of this kind can be loaded")


class HeldKinds(BaseModel):
    """Every kind, and what the market has of it."""

    market: str
    kinds: list[HeldKind]


class MarketDraft(BaseModel):
    """A market to make."""

    name: str = Field(max_length=60, description="A small letter, then small letters, digits or hyphens; 31 at most")
    calendar: str = Field("XNYS", max_length=8, description="The exchange's calendar, by its ISO 10383 code")
    currency: str = Field("USD", pattern="^[A-Z]{3}$", description="ISO 4217")
    index: str | None = Field(None, max_length=12, description="The symbol that relative strength is measured against")
    rate: float = Field(
        0.04, gt=-0.5, lt=1, description="Continuously compounded, a decimal; where no other rates are loaded"
    )


class MarketPath(BaseModel):
    name: str = Field(max_length=60)


class MarketChoice(BaseModel):
    """The market that requests which name none are about from now on."""

    market: str = Field(max_length=60)
