from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.screening.body import StackBody, Text
from flinch.screening.report import RuleReport
from flinch.screening.search import SearchBody
from flinch.web.as_of import AS_OF, AsOf

MOST_ROWS = 1_200


class SearchAsked(BaseModel):
    """A search, a stack of rules on what it makes, and as of when."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    stack: StackBody
    search: SearchBody = SearchBody()
    as_of: AsOf | None = AS_OF
    sort: list[Annotated[str, Field(max_length=80)]] = Field(
        ["-edge_forecast"], max_length=2, description="Keys, - before one that falls; not used with weights"
    )
    front_only: bool = Field(False, description="Tell of the front alone")


class StructuresRequest(SearchAsked):
    """Structures to look at."""

    columns: list[Text] = Field([], max_length=40)
    first: int = Field(0, ge=0, le=1_000_000)
    count: int = Field(100, ge=0, le=MOST_ROWS)
    aim: int | None = Field(None, ge=1, le=1_000_000)
    points: bool = Field(False, description="Tell where all survivors lie on the first two axes of the front")


class StructureLine(BaseModel):
    """One structure."""

    key: str = Field(description="Symbol and legs as a text, as one structure takes them")
    symbol: str
    company: str
    kind: str
    label: str
    words: str = Field(description="Its legs in words")
    chances: list[float | None] = Field(description="Of profit, %: market, past, forecast")
    edges: list[float | None] = Field(description="$ a unit: market, past, forecast")
    flags: list[str]
    on_front: bool


class StructureColumn(BaseModel):
    """One column for the structures told about: numbers (a condition is 1 or 0) or texts."""

    key: str
    label: str
    short: str
    unit: str
    decimals: int
    kind: Literal["number", "condition", "text"]
    error: str | None
    numbers: list[float | None]
    texts: list[str]


class KindCount(BaseModel):
    key: str
    label: str
    count: int


class FrontAxis(BaseModel):
    """An axis of the front and its range among the survivors."""

    key: str
    label: str
    unit: str
    decimals: int
    rising: bool = Field(description="More is better")
    error: str | None
    lowest: float | None
    highest: float | None


class Cells(BaseModel):
    """Small areas of the first two axes: where they are, and how many survivors each has."""

    x: list[float]
    y: list[float]
    count: list[int]


class Front(BaseModel):
    """The structures that no other beats on all axes, and where all survivors lie."""

    axes: list[FrontAxis]
    total: int = Field(description="How many are on the front")
    points: list[StructureLine] = Field(description="Those of the front, by the first axis, at most 200")
    places: list[list[float]] = Field(description="Of each point, on each axis")
    knee: int | None = Field(description="Of two axes: which point lies furthest from the line between the ends")
    cells: Cells


class StructuresReply(BaseModel):
    """Survivors of a stack on structures, the funnel, and the front."""

    version: int
    session: dt.date
    newest: bool
    past: str | None = Field(description="What to ask for to see the same again; null for the newest")
    moment: dt.datetime
    reason: str | None = Field(description="Why there is nothing to look at")
    names: int = Field(description="Names that were looked at")
    targets: int | None = Field(description="How many of them have a price as target; none without one")
    kinds: list[KindCount]
    left_out: int = Field(description="Options without a usable quote")
    universe: int
    survivors: int
    total: int = Field(description="Rows that there are to look at")
    symbols: list[str] = Field(description="Names among the rows in order, at most 2,000")
    rules: list[RuleReport]
    first: int
    rows: list[StructureLine]
    columns: list[StructureColumn]
    front: Front | None


class StructuresExport(SearchAsked):
    """Survivors as a file."""

    format: Literal["csv", "xlsx", "json"]
    name: str = Field("structures", max_length=120)
    columns: list[Text] = Field([], max_length=40)


class KindEntry(BaseModel):
    """A kind of structure that a search can ask for."""

    key: str
    label: str
    lean: int
    legs: list[str]
    later: bool
    middle: bool = Field(description="It stands around the spot or target: the placed range does not apply")
    wide: bool = Field(description="It has a width")


class KindList(BaseModel):
    kinds: list[KindEntry]
