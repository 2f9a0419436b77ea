"""Dossier, expected move: fans of weeks and months, where price stands in them, today's fan, the ledger of past cycles."""

from __future__ import annotations

import datetime as dt
from typing import Literal

import numpy as np
from pydantic import BaseModel, Field

from flinch.core.moves import CycleBands, cycle_ends, cycles, fan
from flinch.market import Market

SHOWN_SESSIONS = 126
_LEDGER = {"week": 52, "month": 24}
_PROMISED = 0.6827
"""The share of a normal distribution within one standard deviation."""


class Bars(BaseModel):
    sessions: list[dt.date]
    open: list[float | None]
    high: list[float | None]
    low: list[float | None]
    close: list[float | None]


class Fan(BaseModel):
    """One cycle's expected move: it opens from `anchor` at the close of `start` with the square root of its sessions."""

    period: str = Field(description="week, month or ahead")
    start: dt.date
    end: dt.date
    anchor: float
    half_width: float
    sessions: list[dt.date] = Field(description="From start to end")
    lower: list[float] = Field(description="The fan's edges at each of them")
    upper: list[float]
    current: bool


class Place(BaseModel):
    """Where price stands in a cycle."""

    period: str
    start: dt.date | None
    end: dt.date | None
    anchor: float | None
    half_width: float | None
    half_width_pct: float | None
    position: float | None
    pace: float | None
    room_pct: float | None
    room_moves: float | None
    room_days: float | None
    sessions_left: int | None
    reason: str | None


class PastCycle(BaseModel):
    """A cycle that is over, in percent of its anchor."""

    start: dt.date
    end: dt.date
    anchor: float
    priced: float
    moved: float
    position: float = Field(description="Move over the priced one, with its sign")
    inside: bool
    worst: float = Field(description="Furthest excursion of the cycle's highs and lows, in priced moves, with its sign")


class Ledger(BaseModel):
    """Past cycles, newest first, and how often price ended inside."""

    period: str
    cycles: list[PastCycle]
    inside: int
    known: int
    verdict: Literal["overpriced", "underpriced", "within chance"] | None = Field(
        description="The share inside against the 68 % of one standard deviation, beyond two of its own"
    )
    missing: int = Field(description="Cycles without a priced move or a close at either end")


class Intraday(BaseModel):
    """Today's five-minute closes against the one-day fan; minutes since the open at each bar's end."""

    previous_close: float | None
    one_day_move: float | None
    minutes: list[int]
    close: list[float | None]
    session_minutes: int
    reason: str | None


class MovesView(BaseModel):
    symbol: str
    bars: Bars
    fans: list[Fan]
    places: list[Place]
    out_of_the_week: bool = Field(description="Beyond the week's edge and within the month's, on the same side")
    intraday: Intraday
    ledgers: list[Ledger]


def moves(market: Market, symbol: str) -> MovesView:
    """Everything about one name's expected moves; raises UnknownName."""
    row = market.row(symbol)
    frame = market.frame
    shown = slice(-SHOWN_SESSIONS, None)
    return MovesView(
        symbol=frame.names[row].symbol,
        bars=Bars(
            sessions=_dates(frame.sessions[shown]),
            **{key: getattr(frame, key)[row, shown].tolist() for key in ("open", "high", "low", "close")},
        ),
        fans=[*_fans(market, row, "month"), *_fans(market, row, "week"), *_ahead(market, row)],
        places=[_place(market, row, period) for period in ("week", "month")],
        out_of_the_week=bool(market.metric("outside_week_inside_month")[row] == 1),
        intraday=_intraday(market, row),
        ledgers=[_ledger(market, row, period) for period in ("week", "month")],
    )


def _dates(days: np.ndarray) -> list[dt.date]:
    return [dt.date.fromisoformat(str(day)) for day in days]


def _spans(market: Market, period: str) -> list[tuple[int, int]]:
    """Start and end of every cycle that touches the sessions held, as places in the calendar, oldest first."""
    found = cycles(cycle_ends(market.frame.calendar, monthly=period == "month"))
    held = market.frame.sessions.size
    pairs = {(int(a), int(e)) for a, e in zip(found.anchor[:held], found.end[:held], strict=True) if a >= 0 and e >= 0}
    return sorted(pairs)


def _band(market: Market, row: int, period: str, place: int) -> tuple[float, float]:
    band: CycleBands = market.bands[period]
    return float(band.anchor[row, place]), float(band.half_width[row, place])


def _fans(market: Market, row: int, period: str) -> list[Fan]:
    calendar, held = market.frame.calendar, market.frame.sessions.size
    out = []
    for start, end in _spans(market, period):
        if end < held - SHOWN_SESSIONS:
            continue
        anchor, half = _band(market, row, period, min(end, held - 1))
        if np.isfinite(anchor) and np.isfinite(half):
            out.append(fan_over(period, calendar[start : end + 1], anchor, half, current=end >= held - 1))
    return out


def fan_over(period: str, sessions: np.ndarray, anchor: float, half: float, *, current: bool) -> Fan:
    """A fan over the sessions of its cycle, the anchor's first."""
    width = fan(half, np.arange(sessions.size), sessions.size - 1)
    days = _dates(sessions)
    return Fan(
        period=period,
        start=days[0],
        end=days[-1],
        anchor=anchor,
        half_width=half,
        sessions=days,
        lower=(anchor - width).tolist(),
        upper=(anchor + width).tolist(),
        current=current,
    )


def market_date(calendar: np.ndarray, place: int) -> dt.date:
    """A place in the calendar as a date."""
    return dt.date.fromisoformat(str(calendar[place]))


def _ahead(market: Market, row: int) -> list[Fan]:
    """The next two expirations beyond the current week, from the newest close."""
    frame = market.frame
    calendar, held = frame.calendar, frame.sessions.size
    price = float(frame.close[row, -1])
    week_end = _spans(market, "week")[-1][1]
    out: list[Fan] = []
    for expiry in market.readable_expiries(row):
        end = int(np.searchsorted(calendar, np.datetime64(expiry.expiration, "D")))
        if end <= week_end or len(out) == 2 or not np.isfinite(price):
            continue
        half = price * expiry.vol * float(np.sqrt(expiry.years))
        out.append(fan_over("ahead", calendar[held - 1 : end + 1], price, half, current=True))
    return out


def _place(market: Market, row: int, period: str) -> Place:
    start, end = _spans(market, period)[-1]
    anchor, half = _band(market, row, period, market.newest)
    calendar, held = market.frame.calendar, market.frame.sessions.size

    def value(key: str) -> float:
        return float(market.metric(key)[row])

    moves_left = value(f"room_to_{period}_moves")
    return Place(
        period=period,
        start=market_date(calendar, start),
        end=market_date(calendar, end),
        anchor=anchor,
        half_width=half,
        half_width_pct=value(f"{period}_edge_pct"),
        position=value(f"{period}_position"),
        pace=value(f"{period}_pace"),
        room_pct=value(f"room_to_{period}_pct"),
        room_moves=moves_left,
        room_days=moves_left**2 if moves_left > 0 else None,
        sessions_left=end - (held - 1),
        reason=market.reason(f"{period}_position", row),
    )


def _intraday(market: Market, row: int) -> Intraday:
    bars = market.bars(5)
    today = np.flatnonzero(bars.session == market.newest)
    close = bars.close[row, today]
    known = np.flatnonzero(np.isfinite(close))
    last = int(known[-1]) + 1 if known.size else 0
    move = float(market.metric("one_day_move")[row])
    return Intraday(
        previous_close=float(market.frame.close[row, -2]),
        one_day_move=move,
        minutes=[5 * (i + 1) for i in range(last)],
        close=close[:last].tolist(),
        session_minutes=390,
        reason=market.reason("spent", row),
    )


def _ledger(market: Market, row: int, period: str) -> Ledger:
    frame = market.frame
    held = frame.sessions.size
    out, missing = [], 0
    # The cycle that runs is not over until its last session is.
    over = [(start, end) for start, end in _spans(market, period) if end < held - 1]
    for start, end in over[-_LEDGER[period] :][::-1]:
        anchor, half = _band(market, row, period, end)
        close = float(frame.close[row, end])
        if not (np.isfinite(anchor) and np.isfinite(half) and np.isfinite(close)):
            missing += 1
            continue
        high = float(np.nanmax(frame.high[row, start + 1 : end + 1])) - anchor
        low = float(np.nanmin(frame.low[row, start + 1 : end + 1])) - anchor
        position = (close - anchor) / half
        out.append(
            PastCycle(
                start=market_date(frame.calendar, start),
                end=market_date(frame.calendar, end),
                anchor=anchor,
                priced=100 * half / anchor,
                moved=100 * (close / anchor - 1),
                position=position,
                inside=abs(position) <= 1,
                worst=(high if high > -low else low) / half,
            )
        )
    inside = sum(cycle.inside for cycle in out)
    return Ledger(
        period=period, cycles=out, inside=inside, known=len(out), verdict=_verdict(inside, len(out)), missing=missing
    )


def _verdict(inside: int, known: int) -> Literal["overpriced", "underpriced", "within chance"] | None:
    if not known:
        return None
    off, slack = inside / known - _PROMISED, 2 * np.sqrt(_PROMISED * (1 - _PROMISED) / known)
    return "overpriced" if off > slack else "underpriced" if off < -slack else "within chance"
