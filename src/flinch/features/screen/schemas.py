from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.screening.body import ScreenBody, StackBody, Tag, Text
from flinch.screening.report import RuleReport
from flinch.screening.starters import Starter
from flinch.web.as_of import AS_OF, AsOf

Symbols = Annotated[list[Annotated[str, Field(max_length=12)]], Field(max_length=10_000)]
Sort = Annotated[list[Annotated[str, Field(max_length=80)]], Field(max_length=2)]


class Against(BaseModel):
    """What to compare with: another session, an earlier moment of the same one, or the names that a look showed."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    session: dt.date | None = Field(None, description="None: the session before")
    since: Literal["open", "hour"] | None = Field(None, description="The session's first minute, or an hour ago")
    moment: dt.datetime | None = Field(
        None, description="The moment of the market that was looked at, in place of a session"
    )
    symbols: Symbols | None = Field(None, description="What was there then, when the rules may have been others")


class RowsRequest(BaseModel):
    """Some of the names that a stack leaves."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    stack: StackBody
    columns: list[Text] = Field([], max_length=60)
    sort: Sort = Field([], description="Keys, - before one that falls; none: the market's order")
    first: int = Field(0, ge=0, le=100_000, description="The first name told about, in that order")
    count: int = Field(10_000, ge=0, le=10_000, description="How many are told about")
    as_of: AsOf | None = AS_OF


class ScreenRequest(RowsRequest):
    """A stack to run, and what to tell about it."""

    aim: int | None = Field(
        None, ge=1, le=100_000, description="Say for each range which edge would leave this many names"
    )
    against: Against | None = None


class StaleFigures(BaseModel):
    """How old figures are, in days and in words."""

    days: int
    words: str


class ColumnReply(BaseModel):
    """One column for the names told about: numbers (a condition is 1 or 0) or texts, and why some are missing, by symbol.

    `lowest`, `highest` and `usual_highest`, below which 93 % are, are of all survivors.
    """

    key: str
    label: str
    short: str
    unit: str
    decimals: int
    kind: Literal["number", "condition", "text"]
    error: str | None
    numbers: list[float | None]
    texts: list[str]
    reasons: dict[str, str]
    stale: dict[str, StaleFigures] = Field(
        {}, description="Values that rest on figures newer ones are overdue of, by symbol"
    )
    lowest: float | None
    highest: float | None
    usual_highest: float | None


class Moved(BaseModel):
    """A name that came in or went out, and the rules (by place) that made it so; none: it was not in the universe."""

    symbol: str
    company: str
    by: list[int]


class Changed(BaseModel):
    """What became different since another session, or an earlier moment of it; without that moment, why it is not known."""

    session: dt.date
    moment: dt.datetime | None = Field(None, description="Of the same session, in exchange time")
    reason: str | None = None
    came_in: list[Moved]
    went_out: list[Moved]
    stayed: int


class RowsReply(BaseModel):
    """Some survivors, column by column: the `first` one told about and those that follow it."""

    version: int
    first: int
    symbols: list[str]
    companies: list[str]
    sectors: list[str]
    columns: list[ColumnReply]


class ScreenReply(RowsReply):
    """All survivors by symbol, in order, some of them column by column, and the funnel."""

    session: dt.date
    moment: dt.datetime = Field(description="In exchange time")
    newest: bool
    past: str | None = Field(description="What to ask for to see the same again; null for the newest")
    universe: int
    rules: list[RuleReport]
    changed: Changed | None


class SeriesRequest(BaseModel):
    """Small charts for some names."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    symbols: list[Annotated[str, Field(max_length=12)]] = Field(max_length=80)
    what: Literal["price", "volatility"]
    sessions: int = Field(63, ge=10, le=504)
    as_of: AsOf | None = AS_OF


class Series(BaseModel):
    """A name's last sessions: closes and the fan of the next thirty days, or implied and historical volatility in percent."""

    symbol: str
    close: list[float | None]
    implied: list[float | None]
    historical: list[float | None]
    fan: list[float | None] = Field(
        description="Half-width of the move priced for the next thirty days, at the shares of that time"
    )


class SeriesReply(BaseModel):
    sessions: list[dt.date]
    shares: list[float] = Field(description="Of the next thirty days, where the fans are told")
    series: list[Series]


class ScreenDraft(BaseModel):
    """A screen to keep."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    name: str = Field(min_length=1, max_length=120)
    description: str = Field("", max_length=2_000)
    tags: list[Tag] = Field([], max_length=20)
    body: ScreenBody
    version: int | None = Field(
        None, ge=1, description="The version that the change was made on; none: whichever is kept"
    )


class SavedScreen(ScreenDraft):
    """A screen that is kept."""

    id: int
    changed_at: dt.datetime


class ScreenList(BaseModel):
    saved: list[SavedScreen]
    starters: list[Starter]


class ScreenPath(BaseModel):
    id: int = Field(ge=1, lt=2**31)


class LookRequest(BaseModel):
    """What a saved screen shows now."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    session: dt.date
    moment: dt.datetime = Field(description="Of the market")
    symbols: Symbols


class Look(BaseModel):
    """The look at a screen before this one."""

    session: dt.date
    moment: dt.datetime | None = Field(
        description="Of the market that was looked at, in exchange time; null for one of long ago"
    )
    looked_at: dt.datetime
    symbols: list[str]


class LookReply(BaseModel):
    before: Look | None


class ExportRequest(BaseModel):
    """Results as a file."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    format: Literal["csv", "xlsx", "json"]
    name: str = Field("screen", max_length=120)
    stack: StackBody
    columns: list[Text] = Field([], max_length=60)
    sort: Sort = []
    as_of: AsOf | None = AS_OF
