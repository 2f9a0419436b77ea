from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.screening.body import StackBody
from flinch.screening.report import RuleReport
from flinch.web.as_of import AS_OF, AsOf

MOST_ROWS = 1_200
ViewKind = Literal["names", "tickets", "contracts", "day"]
Time = Annotated[str, Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$")]


class QuarterChosen(BaseModel):
    """A quarter of an hour of a session, by its place after the open."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    session: dt.date
    place: int = Field(ge=0, lt=96)


class StackAsked(BaseModel):
    """A stack of rules on tickets, and as of when."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    stack: StackBody
    sessions: int = Field(1, ge=1, le=5, description="How many sessions back, the as-of session among them")
    as_of: AsOf | None = AS_OF
    until: Time | None = Field(
        None, description="A time of the as-of session at the exchange; none: its end, or the newest moment"
    )
    quarter: QuarterChosen | None = Field(None, description="Show survivors of this quarter of an hour alone")


class TapeRequest(StackAsked):
    """Tickets to look at."""

    view: ViewKind = "names"
    sort: Annotated[str, Field(max_length=40)] = Field(
        "-premium", description="For names and contracts: what they are in the order of, - when falling"
    )
    least: int = Field(1, ge=1, le=100_000, description="For names: with at least so many tickets")
    first: int = Field(0, ge=0, le=2_000_000)
    count: int = Field(100, ge=0, le=MOST_ROWS)
    aim: int | None = Field(None, ge=1, le=2_000_000)


class Sided(BaseModel):
    """Premium by side."""

    ask: float
    bid: float
    mid: float


class TapeName(BaseModel):
    """A name's surviving tickets."""

    symbol: str
    company: str
    call: Sided
    put: Sided
    premium: float
    net: float = Field(description="Premium that leans up less premium that leans down")
    tickets: int
    strongest: str = Field(description="The contract with most of the premium, in words")
    strongest_premium: float
    repeated: int = Field(description="The most tickets in one contract on one side")
    first_in: int = Field(description="Of its newest one: sessions since the name last had one like it")
    first_ever: bool = Field(description="There was none like it in all sessions held")
    since: float | None = Field(description="Of the largest ticket, signed by its lean")


class TicketLine(BaseModel):
    """One ticket."""

    symbol: str
    session: dt.date
    at: dt.datetime
    place: int = Field(description="Place among its name's tickets of the session")
    is_call: bool
    strike: float
    expiration: dt.date
    days: int
    side: Literal["bid", "mid", "ask"]
    kind: str
    contracts: int
    price: float
    premium: float
    fills: int
    price_then: float | None
    away_pct: float | None
    lean: int
    since: float | None
    opening: str
    first_in: int
    first_ever: bool
    unusual: float | None
    package: str | None = Field(description="The package that it is a leg of, in words")
    package_legs: str | None = Field(description="The same as a structure's legs; none where a side is not known")
    roll: str | None = Field(description="The roll that it is a side of, in words")


class TapeContract(BaseModel):
    """A contract's surviving tickets."""

    symbol: str
    is_call: bool
    strike: float
    expiration: dt.date
    premium: float
    tickets: int
    contracts: int = Field(description="Of the survivors")
    volume: int = Field(description="Of all its trades in the sessions shown")
    open_interest: int | None = Field(description="Of the morning of the first session shown")
    opened: int | None = Field(description="What it rose by until the morning after; missing until that is known")
    small_base: bool
    ask_share_pct: float | None
    quiet: int | None = Field(description="Sessions since it last traded before those shown; missing where it did not")
    quiet_at_least: int = Field(description="How many sessions before those shown are held")


class QuarterRow(BaseModel):
    session: dt.date
    place: int
    at: dt.datetime
    call: Sided
    put: Sided
    tickets: int


class TapeReply(BaseModel):
    """Survivors of a stack on tickets, the funnel, and one way to look at them."""

    version: int
    session: dt.date
    newest: bool
    past: str | None = Field(description="What to ask for to see the same again; null for the newest")
    moment: dt.datetime
    sessions: list[dt.date] = Field(description="Those that can be looked at, up to the as-of session")
    universe: int = Field(description="Tickets of the universe's names in the sessions asked for")
    survivors: int
    shown: int = Field(description="Survivors in the quarter chosen; all when none is")
    premium: float = Field(description="Of those")
    total: int = Field(description="Rows that there are to look at")
    symbols: list[str] = Field(description="Names among the survivors in the order shown, at most 2,000")
    rules: list[RuleReport]
    doubts: list[str] = Field(description="What was wrong with fills of the sessions asked for")
    paired: list[str] = Field(
        description="Rolls and packages that no source flags in those sessions, and what chance makes of them"
    )
    left_out: int
    first: int
    names: list[TapeName] = []
    tickets: list[TicketLine] = []
    contracts: list[TapeContract] = []
    quarters: list[QuarterRow] = []


class NameAsked(StackAsked):
    """One name's surviving tickets on its price."""

    symbol: str = Field(max_length=12)


class Mark(BaseModel):
    """A ticket where it came."""

    at: dt.datetime
    price: float | None
    is_call: bool
    side: Literal["bid", "mid", "ask"]
    premium: float
    words: str


class Pointed(BaseModel):
    """A strike that the money points at."""

    strike: float
    is_call: bool
    premium: float


class NameTickets(BaseModel):
    symbol: str
    company: str
    opens: dt.datetime
    closes: dt.datetime
    minutes: list[dt.datetime]
    prices: list[float | None]
    previous_close: float | None
    price: float | None
    one_day_move: float | None
    tickets: int
    premium: float
    since: float | None = Field(description="Of all that lean, weighted by premium")
    marks: list[Mark] = Field(description="The largest of the as-of session")
    pointed: list[Pointed]


class FillsAsked(BaseModel):
    """Which ticket's fills."""

    session: dt.date
    place: int = Field(ge=0, le=1_000_000)
    as_of: AsOf | None = AS_OF
    until: Time | None = None


class FillRow(BaseModel):
    at: dt.datetime
    venue: str
    price: float
    contracts: int
    bid: float | None
    ask: float | None


class FillList(BaseModel):
    fills: list[FillRow] = Field(description="At most 200")
    total: int


class TapeExport(StackAsked):
    """Survivors as a file."""

    format: Literal["csv", "xlsx", "json"]
    name: str = Field("tape", max_length=120)
    view: Literal["names", "tickets", "contracts"] = "tickets"
    sort: Annotated[str, Field(max_length=40)] = "-premium"
    least: int = Field(1, ge=1, le=100_000)


class SymbolPath(BaseModel):
    symbol: str = Field(max_length=64)
