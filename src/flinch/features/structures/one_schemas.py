from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.web.as_of import AS_OF, AsOf

LegsText = Annotated[
    str, Field(min_length=1, max_length=400, description="Like -1P95@2026-10-16,+1P90@2026-10-16,+100S")
]


class OneAsked(BaseModel):
    """One structure, and the date and volatility that it is valued at between today and its end."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    symbol: str = Field(max_length=64)
    legs: LegsText
    against: LegsText | None = Field(None, description="Another structure of the same name, laid over it")
    entry: float = Field(0.3, ge=0, le=1, description="0: at mid; 1: at the worst side of every leg")
    ahead: float | None = Field(None, ge=0, le=2_000, description="Days from now; none: half of its time")
    shift: float = Field(0, ge=-80, le=200, description="Points added to every volatility")
    scaled: bool = Field(False, description="Give the own past the spread of the forecast")
    as_of: AsOf | None = AS_OF


class LegView(BaseModel):
    """One leg as it is quoted and as the surface says; volatility in percent, greeks a share."""

    quantity: int
    is_call: bool
    strike: float
    expiration: dt.date
    days: int
    bid: float | None
    ask: float | None
    mid: float | None
    iv: float | None = Field(description="Of the fitted surface at its strike")
    delta: float | None
    open_interest: int | None
    volume: int | None
    problem: str | None = Field(description="Why it has no price")


class Judged(BaseModel):
    """What one opinion says; chances in percent, money in $ a unit."""

    opinion: Literal["market", "past", "forecast"]
    chance_of_profit: float | None
    chance_of_max_loss: float | None
    expected: float | None
    shortfall: float | None
    edge: float | None
    edge_pct: float | None = Field(description="Of the width of its market")
    outcomes: list[float | None] = Field(description="Chance of each stretch between the edges, %")


class Breakeven(BaseModel):
    price: float
    moves: float | None = Field(description="From the spot, in expected moves to the first expiration")


class GreeksAt(BaseModel):
    """On a day with price and volatilities as they are: profit and sensitivities."""

    days: float
    date: dt.date
    profit: float | None
    delta: float | None
    gamma: float | None
    theta: float | None
    vega: float | None


class WhatIf(BaseModel):
    words: str
    profit: float | None


class Flag(BaseModel):
    """A fact with its day, where it has one."""

    words: str
    on: dt.date | None


class PriceMark(BaseModel):
    """A price of the name worth seeing."""

    label: str
    price: float


class Payoff(BaseModel):
    """A structure of its own: what it costs, may make and lose, and its profit over prices."""

    key: str
    label: str
    words: str
    legs: list[LegView]
    shares: int
    problem: str | None = Field(description="Why it cannot be priced; all that rests on a price is then missing")
    mid: float | None
    natural: float | None
    cost: float | None
    quoted_width: float | None
    max_profit: float | None = Field(description="None when it has no bound, or cannot be priced")
    max_loss: float | None
    unbounded_profit: bool
    unbounded_loss: bool
    capital: float | None
    return_on_capital: float | None
    breakevens: list[Breakeven]
    at_end: list[float | None] = Field(description="Profit when its first leg ends, at each price")
    today: list[float | None]
    between: list[float | None] = Field(description="At the chosen day and shift of volatility")
    judged: list[Judged]


class ExpirationView(BaseModel):
    expiration: dt.date
    days: int
    monthly: bool
    calls: list[float] = Field(description="Strikes with a usable quote")
    puts: list[float]


class OneReply(BaseModel):
    """One structure under three opinions."""

    version: int
    session: dt.date
    newest: bool
    moment: dt.datetime
    symbol: str
    company: str
    spot: float
    exercise: str
    multiplier: float
    first: dt.date = Field(description="Its first expiration")
    days: float = Field(description="Days until then")
    sessions: int
    ahead: float
    on: dt.date
    shift: float
    lower: float = Field(description="The expected move until then")
    upper: float
    prices: list[float]
    edges: list[float] = Field(description="Prices between which the chance of each outcome is told")
    structure: Payoff
    against: Payoff | None
    path: list[GreeksAt]
    what_if: list[WhatIf]
    flags: list[Flag]
    marks: list[PriceMark]
    expirations: list[ExpirationView]
