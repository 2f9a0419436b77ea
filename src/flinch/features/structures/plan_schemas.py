from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.features.structures.one_schemas import LegsText

Price = Annotated[float, Field(gt=0, le=1e7)]


class PlanWhy(BaseModel):
    """Where a plan came from."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    page: str = Field(max_length=40)
    words: str = Field(max_length=600)
    link: str = Field("", max_length=1_500, pattern=r"^(/[^/\\].*|/|)$", description="A path within Flinch")


class Exits(BaseModel):
    """When to leave; none: not for that reason."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    profit_pct: float | None = Field(
        None, gt=0, le=1_000, description="Of the greatest profit, or of the cost where it has no bound"
    )
    loss_pct: float | None = Field(None, gt=0, le=1_000, description="Of what was paid or received")
    days_left: int | None = Field(None, ge=0, le=1_000)
    price_above: Price | None = None
    price_below: Price | None = None
    on: dt.date | None = None


class PlanDraft(BaseModel):
    """A structure to keep as a plan."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    symbol: str = Field(max_length=12)
    legs: LegsText
    why: PlanWhy
    entry_limit: float | None = Field(
        None, ge=-1e8, le=1e8, description="$ a unit; below zero a credit of at least that"
    )
    exits: Exits = Exits()
    notes: str = Field("", max_length=4_000)
    version: int | None = Field(
        None, ge=1, description="The version that the change was made on; none: whichever is kept"
    )


class ExitNow(BaseModel):
    """One way out, and whether it is reached."""

    key: Literal["profit_pct", "loss_pct", "days_left", "price_above", "price_below", "on"]
    words: str
    reached: bool | None = Field(description="None: it cannot be told now")


class PlanView(BaseModel):
    """A plan with what it is worth now."""

    id: int
    version: int
    symbol: str
    legs: str
    label: str
    words: str
    why: PlanWhy
    entry_limit: float | None
    exits: Exits
    notes: str
    made_on: dt.date
    data_version: int
    cost: float | None = Field(description="What entry cost when it was made")
    spot: float
    price: float | None
    worth: float | None = Field(description="At mid now, $ a unit")
    profit: float | None = Field(description="Since it was made, at the cost of entry then")
    days_left: int
    exits_now: list[ExitNow]
    problem: str | None


class PlanList(BaseModel):
    session: dt.date
    plans: list[PlanView]


class PlanPath(BaseModel):
    id: int = Field(ge=1, lt=2**31)
