from __future__ import annotations

import datetime as dt
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, model_validator

from flinch.core.tripwires import Again
from flinch.watching.bodies import AgainBody, Parked, Rule

MOST_TOLD = 500


class TripwirePath(BaseModel):
    id: int = Field(ge=1, lt=2**31)


class TripsQuery(BaseModel):
    count: int = Field(100, ge=1, le=MOST_TOLD)


class AllTripsQuery(TripsQuery):
    after: int = Field(0, ge=0, lt=2**31, description="Trips that came after this one, by its id")
    unseen: bool = Field(False, description="Those alone that nobody has looked at")


class TripwireDraft(BaseModel):
    """Names that are parked, and what is waited for on them."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    name: str = Field(min_length=1, max_length=120)
    parked: Parked
    keep: bool = Field(False, description="The names of the source as they are now, kept so")
    rule: Rule
    again: AgainBody = AgainBody()
    why: dict[str, Any] = Field({}, description="Where it was made: page, words, link")
    note: str = Field("", max_length=500)
    armed: bool = True
    version: int | None = Field(None, ge=1, description="The one that was read; none: whichever is kept")

    @model_validator(mode="after")
    def _sound(self) -> TripwireDraft:
        if len(str(self.why)) > 2_000:
            raise ValueError("why is longer than 2,000 characters")
        if not self.name.strip():
            raise ValueError("give it a name")
        if (self.parked.symbols is None) == (self.parked.source is None):
            raise ValueError("park either a list of names or a source of them")
        if self.rule.screen is None and not self.rule.text.strip():
            raise ValueError("say what is waited for: a rule, or a screen")
        return self


class ArmAsked(BaseModel):
    """Whether it watches."""

    armed: bool


class BeforeAsked(BaseModel):
    """A tripwire that is not armed yet."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    parked: Parked
    rule: Rule
    again: AgainBody = AgainBody()


class Number(BaseModel):
    """What a rule read."""

    key: str
    label: str
    unit: str
    decimals: int
    value: float


class TripRow(BaseModel):
    """A name that tripped."""

    id: int
    tripwire: int
    name: str | None = Field(description="Of the tripwire; none when it is gone")
    symbol: str
    moment: dt.datetime = Field(description="In exchange time")
    words: str = Field(description="What was waited for, as it was then")
    numbers: list[Number] = Field(description="What the rule read")
    price: float | None
    move: float | None = Field(description="Priced for the next session then, $")
    since: float | None = Field(description="How far price has gone since then, in such moves")
    missed: bool = Field(description="It was found afterwards: nothing watched at that moment")
    seen: bool
    parked: str = Field(description="Why the name was parked, in words")


class TripsView(BaseModel):
    """Trips, the newest first."""

    trips: list[TripRow]


class SeenAsked(BaseModel):
    """Trips that somebody has looked at."""

    ids: list[int] = Field(max_length=MOST_TOLD)


class Seen(BaseModel):
    seen: int = Field(description="How many of them nobody had looked at")


class TripwireInfo(BaseModel):
    """A tripwire and how it stands."""

    id: int
    version: int
    name: str
    parked: Parked
    rule: Rule
    again: AgainBody
    why: dict[str, Any]
    note: str
    words: str = Field(description="What is waited for")
    of: str = Field(description="On which names, in words")
    names: int | None = Field(description="How many are parked now")
    armed_at: dt.datetime | None = Field(description="In exchange time; none: it does not watch")
    error: str | None = Field(description="Why it cannot be watched")
    trips: int
    unseen: int
    last: dt.datetime | None = Field(description="When a name tripped last, in exchange time")


class TripwiresView(BaseModel):
    tripwires: list[TripwireInfo]
    watched: dt.datetime | None = Field(description="Up to which moment all are watched, in exchange time")


class NameOften(BaseModel):
    symbol: str
    trips: int


class Before(BaseModel):
    """How often a tripwire would have tripped in the sessions held, looked at once a session, at its close."""

    reason: str | None = Field(description="Why that is not known")
    names: int = Field(description="Parked now")
    holds: int = Field(description="Of them hold already, and would not trip")
    unknown: int = Field(description="Of them it is not known")
    sessions: list[dt.date]
    trips: list[int] = Field(description="Names that would have tripped, by session")
    total: int
    a_session: float | None = Field(description="Names a session, in the mean")
    none: int = Field(description="Sessions without any")
    again: Again
    most: list[NameOften] = Field(description="Which names most often")
