"""The rate of a session: that of thirty days, out of those that were told for it or last before it."""

from __future__ import annotations

import datetime as dt

import numpy as np
from sqlalchemy import Engine, select

from flinch.store.market.models import RateDay
from flinch.store.reading import Dates, Floats, dates, numbers, read_table

RATE_DAYS = 30


def read_rates(engine: Engine, sessions: Dates, otherwise: float) -> Floats:
    """The rate of each session, in order: what was told for thirty days, or lies between the rates of the days around them, a
    constant beyond the first and the last; `otherwise` before the first session that any was told for."""
    r = RateDay
    rows = read_table(engine, select(r.session, r.days, r.rate).order_by(r.session, r.days))
    out = np.full(sessions.size, otherwise)
    if not rows.height:
        return out
    told, begins = np.unique(dates(rows["session"]), return_index=True)
    ends = np.append(begins[1:], rows.height)
    days, rate = numbers(rows["days"]), numbers(rows["rate"])
    at = np.array([np.interp(RATE_DAYS, days[a:b], rate[a:b]) for a, b in zip(begins, ends, strict=True)])
    place = np.searchsorted(told, sessions, side="right") - 1
    out[place >= 0] = at[place[place >= 0]]
    return out


def read_rate(engine: Engine, session: dt.date, otherwise: float) -> float:
    """The rate of one session."""
    return float(read_rates(engine, np.array([session], "datetime64[D]"), otherwise)[0])
