"""Planted cases: what the simulator does to a name on purpose, and what a reader should then find."""

from __future__ import annotations

import datetime as dt
from importlib.resources import files
from typing import Literal

from pydantic import BaseModel, ConfigDict, TypeAdapter

Stretch = tuple[int, int, float]
"""First and last session counted back from the newest (-1), and a factor."""


class PlantedEarnings(BaseModel):
    """A fixed report, and the move its options price for it."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    date: dt.date
    timing: Literal["before_open", "after_close"]
    move: float


class Steering(BaseModel):
    """Closes led along straight lines between anchors: sessions counted back from the newest, and the log price there
    against the first anchor's. `wiggle` is how much of the name's own daily noise stays on top of the lines."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    anchors: list[tuple[int, float]]
    wiggle: float = 0.15


class PlantedInterest(BaseModel):
    """Contracts opened in each session from `first` to `last`, counted back from the newest (-1); they are in the open interest
    a session later. `base` is what was open in the morning of `first`."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    first: int
    last: int
    right: Literal["call", "put"]
    expiration: dt.date
    strike: float
    contracts: int
    base: int | None = None


class PlantedTrade(BaseModel):
    """A decision on the tape of a session (counted back from the newest, -1), at a time of the exchange: one fill, or one on each
    of several venues within milliseconds; done `times` times, `every` so many seconds. Of all of it `opens` contracts stay open,
    below zero they are closed. What is cancelled is told and counts for nothing."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    session: int
    at: dt.time
    right: Literal["call", "put"]
    expiration: dt.date
    strike: float
    side: Literal["ask", "mid", "bid"]
    contracts: int
    venues: int = 1
    times: int = 1
    every: int = 0
    opens: int = 0
    cancelled: bool = False
    package: bool = False

    @property
    def traded(self) -> int:
        """Contracts that count."""
        return 0 if self.cancelled else self.contracts * self.times


class PlantedPrint(BaseModel):
    """An off-exchange print of a session (counted back from the newest, -1), at a time of the exchange; `times` times, `every` so
    many milliseconds."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    session: int
    at: dt.time
    price: float
    shares: int
    times: int = 1
    every: int = 0
    conditions: list[Literal["average", "derivative", "late"]] = []


class Adjusted(BaseModel):
    """Contracts that a corporate action changed: each delivers 100 shares and cash, and is listed beside the standard ones."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    cash: float
    open_interest: int


class Storyline(BaseModel):
    """One entry of the manifest."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    name: str
    symbol: str
    dates: list[dt.date]
    planted: str
    expect: dict[str, tuple[float, float]]
    own_vol: list[Stretch] = []
    premium: list[Stretch] = []
    earnings: list[PlantedEarnings] = []
    no_earnings_jump: bool = False
    halted: bool = False
    weeklies: bool | None = None
    missing: list[tuple[int, int]] = []
    listed: int | None = None
    today_in_deviations: float | None = None
    steer: Steering | None = None
    today_dip: float = 0.0
    today_gap: float | None = None
    volume: list[Stretch] = []
    option_volume: list[Stretch] = []
    premarket_share: float | None = None
    carry: float | None = None
    price_to_book: float | None = None
    second_source: float = 1.0
    stale_since: int | None = None
    price_to_earnings: float | None = None
    fair_value_over_price: float | None = None
    short_interest: list[tuple[int, float]] = []
    interest: list[PlantedInterest] = []
    trades: list[PlantedTrade] = []
    prints: list[PlantedPrint] = []
    only_planted_prints: bool = False
    adjusted: Adjusted | None = None
    multiplier: float | None = None
    price: float | None = None  # the newest close; all of the name's prices are scaled to it


def storylines() -> list[Storyline]:
    """The manifest, in order."""
    text = (files(__package__) / "storylines.json").read_text(encoding="utf-8")
    return TypeAdapter(list[Storyline]).validate_json(text)
