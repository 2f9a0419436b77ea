from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.screening.body import StackBody
from flinch.screening.report import RuleReport
from flinch.screening.shelf_record import RecordRow
from flinch.web.as_of import AS_OF, AsOf

MOST_ROWS, MOST_LEVELS = 1_200, 24
Position = Literal["above all", "within", "below all", "none that large", "none"]
Part = Literal["before the open", "regular hours", "after the close"]


class Window(BaseModel):
    """Which sessions' prints are looked at, and how large a level must be."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    sessions: int = Field(20, description="How many sessions back, the as-of session among them; 1 to 60")
    first: dt.date | None = Field(None, description="In place of that: from this day on")
    last: dt.date | None = Field(None, description="Up to this day; none: the as-of session")
    least: float = Field(1_000_000, description="What a level must come to over the window")
    unit: Literal["$", "shares"] = "$"

    @property
    def bounds(self) -> dict[str, float]:
        """What a level must come to, as the core takes it."""
        return {"least" if self.unit == "$" else "least_shares": self.least}


class StackAsked(BaseModel):
    """A stack of rules on names, and the prints to look at."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    stack: StackBody
    window: Window = Window()
    positions: list[Position] = Field([], max_length=5, description="Show names at these positions alone; none: all")
    as_of: AsOf | None = AS_OF


class ShelfRecord(BaseModel):
    """How often tests of shelves held, of the names left and of all, beside their placebo."""

    session: dt.date
    names: int
    first_session: dt.date | None = Field(description="The first in which a test could begin")
    rows: list[RecordRow]


class PrintsRequest(StackAsked):
    """Names, or the as-of session's prints, to look at."""

    view: Literal["names", "prints"] = "names"
    sort: Annotated[str, Field(max_length=40)] = Field(
        "-largest", description="For names: what they are in the order of, - when falling"
    )
    first: int = Field(0, ge=0, le=1_000_000)
    count: int = Field(100, ge=0, le=MOST_ROWS)
    aim: int | None = Field(None, ge=1, le=100_000)


class Level(BaseModel):
    """A price at which much was printed over the window."""

    price: float
    notional: float
    shares: int
    bursts: int
    moves: float | None = Field(description="From the price now, in one-day expected moves; above it positive")


class PrintsName(BaseModel):
    """Where a name stands among its levels."""

    symbol: str
    company: str
    price: float | None
    change_pct: float | None
    position: Position
    levels: list[Level] = Field(description="The largest, by price")
    count: int = Field(description="How many levels there are")
    above: float | None = Field(description="Price of the nearest level above")
    above_pct: float | None
    above_moves: float | None
    below: float | None
    below_pct: float | None
    below_moves: float | None
    largest: float | None = Field(description="Price of the level with the most notional")
    largest_notional: float
    largest_moves: float | None
    share_pct: float | None = Field(description="Shares of all prints in the window in percent of its volume")
    days_to_earnings: float | None
    earnings_timing: str | None
    short_pct: float | None = Field(description="Of the float")
    short_change: float | None = Field(description="Percent since the settlement before")
    days_to_ex_dividend: float | None
    next_dividend: float | None


class PrintLine(BaseModel):
    """Prints that were one burst, or one that makes no level."""

    symbol: str
    at: dt.datetime
    part: Part
    price: float
    shares: int
    notional: float
    prints: int
    conditions: list[str]
    share_pct: float | None = Field(description="Of the session's volume")
    away_pct: float | None = Field(description="From the price now")
    away_moves: float | None


class PrintsReply(BaseModel):
    """Survivors of a stack on names, the funnel, and where they stand among prints."""

    version: int
    session: dt.date
    newest: bool
    past: str | None = Field(description="What to ask for to see the same again; null for the newest")
    first_session: dt.date | None = Field(description="The window's first session; missing when no prints are kept")
    last_session: dt.date | None
    universe: int
    survivors: int
    positions: dict[Position, int] = Field(description="How many survivors stand where")
    shown: int = Field(description="Survivors at the positions that were chosen")
    total: int = Field(description="Rows that there are to look at")
    symbols: list[str] = Field(description="Names shown, in order, at most 2,000")
    rules: list[RuleReport]
    doubts: list[str]
    names: list[PrintsName] | None = None
    prints: list[PrintLine] | None = None


class PrintsExport(StackAsked):
    """What to take out as a file."""

    format: Literal["csv", "xlsx", "json"]
    name: str = Field("Off-exchange", max_length=120)
    view: Literal["names", "prints"] = "names"
    sort: Annotated[str, Field(max_length=40)] = "-largest"
