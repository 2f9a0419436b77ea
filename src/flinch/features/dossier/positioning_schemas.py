"""What goes over the wire about one name's exposure and open interest."""

from __future__ import annotations

import datetime as dt
from typing import Literal

from pydantic import BaseModel, Field, field_validator

from flinch.core.gamma import DEFAULT_RULE, SignRule
from flinch.features.dossier.moves import Fan
from flinch.web import AsOfQuery

Against = Literal["snapshot", "yesterday", "week"]
BucketName = Literal["week", "month", "beyond"]


class PositioningQuery(AsOfQuery):
    rule: SignRule = Field(DEFAULT_RULE, description="What customers are assumed to have done")
    against: Against = Field("yesterday", description="The earlier moment to compare with")
    expirations: str = Field(
        "", max_length=600, description="Dates with commas between them; none: all that are listed"
    )
    fan: dt.date | None = Field(
        None, description="Expiration of the expected move shown; none: the nearest monthly one"
    )

    @field_validator("expirations")
    @classmethod
    def _dates(cls, text: str) -> str:
        for part in text.split(",") if text else []:
            try:
                dt.date.fromisoformat(part)
            except ValueError:
                raise ValueError(f"{part[:20]!r} is not a date like 2026-09-18") from None
        return text


class Side(BaseModel):
    """Exposure in $ per 1 % move under the rule."""

    call: float | None
    put: float | None
    net: float | None
    gross: float | None
    net_pct: float | None = Field(description="Net in percent of the average value traded a day")


class Changes(BaseModel):
    """Net exposure, $ per 1 %, now less that of an earlier moment."""

    snapshot: float | None
    yesterday: float | None
    week: float | None


class StrikePart(BaseModel):
    """One strike, the chosen expirations together: now, and at the moment compared with (`before`). Exposure is
    missing where contracts are open and none of them could be read."""

    strike: float
    call_exposure: float | None
    put_exposure: float | None
    call_exposure_before: float | None
    put_exposure_before: float | None
    call_interest: int
    put_interest: int
    call_interest_before: int
    put_interest_before: int


class ExpiryPart(BaseModel):
    """One expiration's exposure."""

    expiration: dt.date
    days: int
    monthly: bool
    bucket: BucketName
    chosen: bool
    call: float | None
    put: float | None
    net: float | None
    share: float | None = Field(description="Of gross exposure, percent")
    interest: int
    put_call: float | None = Field(description="Put over call open interest")
    opened: int = Field(description="Contracts opened less closed since the session before")


class Bucket(BaseModel):
    bucket: BucketName
    net: float | None
    share: float | None = Field(description="Of gross exposure, percent")


class Build(BaseModel):
    """A contract whose open interest changed since the session before."""

    expiration: dt.date
    strike: float
    is_call: bool
    interest: int
    before: int
    change: int
    percent: float | None
    small_base: bool
    volume: int
    new: bool = Field(description="It was not listed before")


class Spread(BaseModel):
    """As much opened at two strikes of one expiration: likely one trade."""

    expiration: dt.date
    is_call: bool
    lower: float
    upper: float
    contracts: int
    cost: float | None = Field(description="At mid, $ a share: what the nearer strike costs over the further one")
    fitted: bool = Field(description="The cost is that of the fitted surface: a quote is missing or too wide")
    total: float | None = Field(description="For all contracts, $")


class Adjusted(BaseModel):
    """Contracts that a corporate action changed; they are in no sum."""

    shares: float
    cash: float
    contracts: int
    open_interest: int


class Profile(BaseModel):
    """Net exposure of the chosen expirations at other prices, every gamma worked out anew."""

    spots: list[float]
    net: list[float | None]
    flip: float | None
    reason: str | None


class Recent(BaseModel):
    """Recent closes, on the price axis that the strikes share."""

    sessions: list[dt.date]
    close: list[float | None]


class ExposureHistory(BaseModel):
    """Every session held."""

    sessions: list[dt.date]
    net: list[float | None]
    close: list[float | None]


class PositioningView(BaseModel):
    symbol: str
    spot: float
    rule: SignRule
    says: str = Field(description="The rule in words")
    multiplier: float
    against: dt.datetime | None = Field(description="The moment compared with, UTC; none when there is none")
    chain_kept: bool = Field(description="Without it there are no contracts, only what was summed up of them")
    now: Side
    before: Side
    changes: Changes
    daily_value: float | None = Field(description="Average value traded a day, 21 sessions, $")
    flip: float | None = Field(description="Of all expirations")
    flip_reason: str | None
    peak_exposure: float | None
    peak_interest: float | None
    top_strikes_pct: float | None
    put_call_interest: float | None
    put_call_volume: float | None
    roll_off_pct: float | None
    next_expiration: dt.date | None
    left_out: int = Field(description="Open contracts whose volatility could not be read, in none of the sums")
    adjusted: list[Adjusted]
    strikes: list[StrikePart]
    profile: Profile
    expiries: list[ExpiryPart]
    buckets: list[Bucket]
    fan: Fan | None
    recent: Recent
    builds: list[Build]
    unwinds: list[Build]
    spreads: list[Spread]
    history: ExposureHistory
    reason: str | None = Field(description="Why there is no exposure")
