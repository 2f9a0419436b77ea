from __future__ import annotations

import datetime as dt

from pydantic import BaseModel, ConfigDict, Field

from flinch.web import AsOfQuery


class LinePath(BaseModel):
    id: int = Field(ge=1, lt=2**31)


class NamePath(BaseModel):
    symbol: str = Field(max_length=64)


class LinesQuery(AsOfQuery):
    by: dt.date | None = Field(None, description="Chances are of a touch by this day's close; none: in 21 sessions")


class LineDraft(BaseModel):
    """A price to mark on a name."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    symbol: str = Field(max_length=12)
    name: str = Field("", max_length=60)
    price: float = Field(gt=0, le=1e9)
    note: str = Field("", max_length=500, description="Why it stands there")
    version: int | None = Field(
        None, ge=1, description="The version that the change was made on; none: whichever is kept"
    )


class OwnLine(LineDraft):
    id: int
    since: dt.date = Field(description="The session in which it was put there")


class LineRow(OwnLine):
    """A line as price stands to it."""

    away_pct: float | None
    away_moves: float | None = Field(description="In moves priced for the next session")
    priced_chance_pct: float | None = Field(description="Of a touch by the day asked for, under the fitted surface")
    priced_reason: str | None = Field(description="Why there is no such chance")
    past_chance_pct: float | None = Field(description="The same under the name's own past, its drift taken out")
    past_windows: int = Field(description="Past stretches of that length, overlapping")
    past_apart: int = Field(description="How many of them can lie side by side")


class LinesView(BaseModel):
    """A name's own lines, the highest first."""

    symbol: str
    session: dt.date
    price: float | None
    by: dt.date
    sessions: int = Field(description="Sessions until then")
    lines: list[LineRow]
    later: int = Field(description="Lines that were put there after this session")
