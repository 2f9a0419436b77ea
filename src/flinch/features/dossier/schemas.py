from __future__ import annotations

import datetime as dt
from typing import Literal

from pydantic import BaseModel, Field

from flinch.core.volatility import Estimator
from flinch.web import AsOfQuery


class DossierPath(BaseModel):
    symbol: str = Field(max_length=64)


class DossierQuery(AsOfQuery):
    estimator: Estimator = "yang_zhang"
    window: int = Field(21, ge=5, le=252, description="Sessions of historical volatility")


class ChainQuery(AsOfQuery):
    expiration: dt.date | None = Field(None, description="None: the nearest monthly one")


class ChainExportQuery(ChainQuery):
    format: Literal["csv", "xlsx", "json"] = "xlsx"


class OverTimeQuery(AsOfQuery):
    expression: str = Field(max_length=1_001, description="A metric, an own metric, or any expression")
    reference: float | None = Field(None, description="A line to compare with; none: the session's value")


class OverTime(BaseModel):
    """One number of one name in every session held. A condition is 1 or 0."""

    symbol: str
    expression: str
    label: str
    unit: str
    decimals: int
    kind: Literal["number", "condition"]
    scale: Literal["linear", "log"]
    sessions: list[dt.date]
    values: list[float | None]
    reference: float | None
    known: int = Field(description="Sessions with a value")
    above: int = Field(description="Of these, sessions above the reference, or in which the condition held")
    reason: str | None = Field(description="Why there is no value in the session")


class SoFar(BaseModel):
    """The day up to now against what was priced for the time that has gone by."""

    gone_pct: float = Field(description="Share of the day's variance that has gone by, that before the open with it")
    expected_pct: float = Field(description="One standard deviation of so much of the day")
    spent_pct: float = Field(description="Size of the move so far over it")
    before_open_pct: float = Field(description="Share of a day's variance that comes before the open, of this name")


class Today(BaseModel):
    """The session's move against the move its options priced for it."""

    price: float | None
    previous_close: float | None
    change: float | None
    change_pct: float | None
    one_day_move: float | None = Field(description="One standard deviation as priced at the previous close, in $")
    one_day_move_pct: float | None
    next_day_move: float | None = Field(description="One standard deviation of the next session as priced now, in $")
    next_day_move_pct: float | None
    priced_by: dt.date | None = Field(description="The expiration the one-day move is read from")
    spent_pct: float | None
    so_far: SoFar | None = Field(description="Missing when the session is over, or nothing is priced for it")
    reason: str | None = Field(description="Why the move or the expected move is missing")
    next_reason: str | None = Field(description="Why nothing is priced for the next session")


class VolatilityYear(BaseModel):
    """One year of implied against historical volatility, percent points."""

    sessions: list[dt.date]
    iv30: list[float | None]
    hv: list[float | None]
    reports: list[dt.date] = Field(description="Sessions within the year at which earnings were reported")


class Standing(BaseModel):
    """Rank and percentile of iv30, with what they are made of."""

    last: float | None
    low: float | None
    low_on: dt.date | None
    high: float | None
    high_on: dt.date | None
    observed: int = Field(description="Sessions of the last 252 with a value")
    below: int = Field(description="Previous sessions that were strictly below the last value")
    rank: float | None
    percentile: float | None
    reason: str | None = Field(description="Why rank and percentile are missing")


class ExpiryRow(BaseModel):
    """One listed expiration."""

    expiration: dt.date
    days: int
    monthly: bool = Field(description="The third Friday, or the session before it when that is a holiday")
    vol: float | None = Field(description="At the money, percent points")
    forward: float | None
    forward_from_parity: bool
    strikes: int = Field(description="Quoted strikes that took part in the fit")
    move: float | None = Field(description="One standard deviation to expiration, in $")
    move_pct: float | None
    lower: float | None
    upper: float | None
    straddle: float | None
    straddle_pct: float | None
    straddle_strike: float | None
    earnings_inside: bool
    vol_ex_earnings: float | None = Field(description="Without the variance of reports, percent points")
    quality: float | None = Field(description="Of the fit, 0 to 100")
    flaw: str = Field(description="Why the quality is low; empty when it is not")
    reason: str | None = Field(description="Why the volatility is missing")


class TenorPoint(BaseModel):
    days: int
    vol: float | None = Field(description="Constant maturity, percent points")


class NextReport(BaseModel):
    session: dt.date
    timing: str
    days: int


class Dossier(BaseModel):
    """Everything that was known of one name in a session."""

    session: dt.date
    newest: bool = Field(description="Whether this is the newest session")
    past: str | None = Field(description="What to ask for to see the same again; null for the newest")
    as_of: dt.datetime = Field(description="In exchange time")
    chain_kept: bool = Field(description="Whether the session's option chains are kept")
    symbol: str
    company: str
    kind: str
    sector: str
    listed_on: dt.date | None
    market_cap: float | None
    next_report: NextReport | None
    today: Today
    year: VolatilityYear
    standing: Standing
    expiries: list[ExpiryRow]
    tenors: list[TenorPoint]
