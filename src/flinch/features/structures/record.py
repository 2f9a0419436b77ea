"""How good the three opinions were: what they said of where price would end, and what came."""

from __future__ import annotations

import datetime as dt

import numpy as np
from pydantic import BaseModel, Field

from flinch.core.arrays import BoolArray
from flinch.core.rules import percent
from flinch.core.structures import BANDS, LEAST_CASES, OPINIONS, Opinion, brier, lead_of, reliability
from flinch.market import View
from flinch.market.calibration import EVERY, Record, calibration_record
from flinch.web.as_of import AS_OF, AsOf


class RecordQuery(BaseModel):
    """Of which name beside the market."""

    symbol: str | None = Field(None, max_length=64)
    as_of: AsOf | None = AS_OF


class BandLine(BaseModel):
    """Ending within so many expected moves: how often it was said and came, %."""

    band: float
    came: float | None
    said: list[float | None] = Field(description="Mean of what market, past and forecast said")


class Tenth(BaseModel):
    """What an opinion said in a tenth of its chances, and how often it came, %."""

    said: float | None
    came: float | None
    cases: int


class OpinionRecord(BaseModel):
    opinion: Opinion
    score: float | None = Field(
        description="Mean squared distance between what was said and what came (Brier); less is better"
    )
    tenths: list[Tenth]


class Lead(BaseModel):
    """By how much one score is less than the next one, with its 95 % interval."""

    value: float
    low: float | None
    high: float | None


class Told(BaseModel):
    """The record of one name or of all."""

    cases: int = Field(description="Expirations looked at, each in several bands")
    sessions: int
    bands: list[BandLine]
    opinions: list[OpinionRecord]
    nearest: Opinion | None = Field(description="Which opinion came nearest; none when chance explains the lead")
    lead: Lead | None = Field(description="Of the one that came nearest over the next one; none with too few cases")


class RecordReply(BaseModel):
    first: dt.date | None
    last: dt.date | None
    every: int = Field(description="Sessions between those that are looked at")
    market: Told
    name: Told | None = Field(description="None without a name, or with fewer than 30 cases")
    symbol: str | None


def record_reply(view: View, symbol: str | None) -> RecordReply:
    """What was said and what came, of all names and of one; raises UnknownName, BeingRead."""
    row = None if symbol is None else view.row(symbol)
    record = calibration_record(view)
    mine = None if row is None else record.name == row
    sessions = record.session
    return RecordReply(
        first=view.date(int(sessions.min())) if sessions.size else None,
        last=view.date(int(sessions.max())) if sessions.size else None,
        every=EVERY,
        market=view.version.keep(("told record", view.last), lambda: _told(record, np.ones(sessions.size, bool)), 2),
        name=None if mine is None or mine.sum() < LEAST_CASES else _told(record, mine),
        symbol=None if row is None else view.name(row).symbol,
    )


def _told(record: Record, rows: BoolArray) -> Told:
    said, came = record.said[:, rows], record.came[rows]
    lines = []
    for k, band in enumerate(BANDS):
        means = [float(percent(np.nanmean(told[:, k]))) if np.isfinite(told[:, k]).any() else None for told in said]
        lines.append(BandLine(band=band, came=float(percent(came[:, k].mean())) if came.size else None, said=means))
    # All opinions are scored on the cases of which each said something.
    everybody = np.isfinite(said).all(axis=0)
    opinions = []
    for place, opinion in enumerate(OPINIONS):
        mine, hit = said[place][everybody], came[everybody]
        found = reliability(mine, hit)
        tenths = [
            Tenth(said=float(percent(a)), came=float(percent(b)), cases=int(n))
            for a, b, n in zip(found.said, found.came, found.cases, strict=True)
        ]
        opinions.append(OpinionRecord(opinion=opinion, score=brier(mine, hit), tenths=tenths))
    found_lead = lead_of(said, came, record.session[rows])
    lead = (
        Lead(value=found_lead.lead, low=found_lead.low, high=found_lead.high) if np.isfinite(found_lead.lead) else None
    )
    return Told(
        cases=int(rows.sum()),
        sessions=int(np.unique(record.session[rows]).size),
        bands=lines,
        opinions=opinions,
        nearest=None if found_lead.nearest is None else OPINIONS[found_lead.nearest],
        lead=lead,
    )
