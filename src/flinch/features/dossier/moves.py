"""Dossier, expected move: fans of weeks and months, where price stands in them, today's fan, the ledger of past cycles."""

from __future__ import annotations

import datetime as dt

import numpy as np
from pydantic import BaseModel, Field

from flinch.core.moves import Verdict, cycle_ends, cycle_outcomes, cycles, fan, ledger_verdict
from flinch.core.rules import percent
from flinch.market import View

SHOWN_SESSIONS = 126
_LEDGER = {"week": 52, "month": 24}


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
    verdict: Verdict | None = Field(
        description="The share inside against the 68 % of one standard deviation, beyond two of its own"
    )
    missing: int = Field(description="Cycles without a priced move or a close at either end")


class DayFan(BaseModel):
    """The one-day move as it opens from the close before, at minutes since the open."""

    minutes: list[float]
    lower: list[float]
    upper: list[float]


class Intraday(BaseModel):
    """Today's five-minute closes against the one-day fan; minutes since the open at each bar's end."""

    previous_close: float | None
    one_day_move: float | None
    minutes: list[int]
    close: list[float | None]
    session_minutes: int
    fan: DayFan | None
    reason: str | None


class MovesView(BaseModel):
    session: dt.date
    newest: bool = Field(description="Whether this is the newest session")
    symbol: str
    bars: Bars
    fans: list[Fan]
    places: list[Place]
    out_of_the_week: bool = Field(description="Beyond the week's edge and within the month's, on the same side")
    intraday: Intraday
    ledgers: list[Ledger]


def moves(view: View, symbol: str) -> MovesView:
    """Everything about one name's expected moves; raises UnknownName."""
    row = view.row(symbol)
    shown = slice(-SHOWN_SESSIONS, None)
    bars = zip(("open", "high", "low", "close"), view.prices(row), strict=True)
    return MovesView(
        session=view.today,
        newest=view.is_newest,
        symbol=view.name(row).symbol,
        bars=Bars(
            sessions=view.sessions[shown],
            **{key: prices[shown].tolist() for key, prices in bars},
        ),
        fans=[*cycle_fans(view, row, "month"), *cycle_fans(view, row, "week"), *fans_ahead(view, row)],
        places=[_place(view, row, period) for period in ("week", "month")],
        out_of_the_week=bool(view.metric("outside_week_inside_month")[row] == 1),
        intraday=_intraday(view, row),
        ledgers=[_ledger(view, row, period) for period in ("week", "month")],
    )


def _dates(days: np.ndarray) -> list[dt.date]:
    return [dt.date.fromisoformat(str(day)) for day in days]


def _spans(view: View, period: str) -> list[tuple[int, int]]:
    """Start and end of every cycle that touches the sessions held, as places in the calendar, oldest first."""
    of_session = cycles(cycle_ends(view.calendar, monthly=period == "month"))
    so_far = view.end
    pairs = {
        (int(a), int(e))
        for a, e in zip(of_session.anchor[:so_far], of_session.end[:so_far], strict=True)
        if a >= 0 and e >= 0
    }
    return sorted(pairs)


def _running(view: View, period: str) -> tuple[int | None, int]:
    """Start and end of the cycle that the view's session belongs to, as places in the calendar; no start where it began before
    the sessions held."""
    of_session = cycles(cycle_ends(view.calendar, monthly=period == "month"))
    start, end = int(of_session.anchor[view.last]), int(of_session.end[view.last])
    return (start if start >= 0 else None), end


def _band(view: View, row: int, period: str, place: int) -> tuple[float, float]:
    band = view.band(period)
    return float(band.anchor[row, place]), float(band.half_width[row, place])


def cycle_fans(view: View, row: int, period: str) -> list[Fan]:
    """Fans of the cycles that touch the sessions shown, oldest first."""
    calendar, so_far = view.calendar, view.end
    out = []
    for start, end in _spans(view, period):
        if end < so_far - SHOWN_SESSIONS:
            continue
        anchor, half = _band(view, row, period, min(end, so_far - 1))
        if np.isfinite(anchor) and np.isfinite(half):
            out.append(fan_over(period, calendar[start : end + 1], anchor, half, current=end >= so_far - 1))
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


def fans_ahead(view: View, row: int) -> list[Fan]:
    """The next two expirations beyond the current week, from the newest close."""
    calendar, so_far = view.calendar, view.end
    price = view.price(row)
    _, week_end = _running(view, "week")
    out: list[Fan] = []
    for expiry in view.readable_expirations(row):
        end = int(np.searchsorted(calendar, np.datetime64(expiry.expiration, "D")))
        if end <= week_end or len(out) == 2 or not np.isfinite(price):
            continue
        half = price * expiry.vol * float(np.sqrt(expiry.years))
        out.append(fan_over("ahead", calendar[so_far - 1 : end + 1], price, half, current=True))
    return out


def _place(view: View, row: int, period: str) -> Place:
    start, end = _running(view, period)
    anchor, half = _band(view, row, period, view.last)
    calendar, so_far = view.calendar, view.end

    def value(key: str) -> float:
        return float(view.metric(key)[row])

    moves_left = value(f"room_to_{period}_moves")
    return Place(
        period=period,
        start=None if start is None else market_date(calendar, start),
        end=market_date(calendar, end),
        anchor=anchor,
        half_width=half,
        half_width_pct=value(f"{period}_edge_pct"),
        position=value(f"{period}_position"),
        pace=value(f"{period}_pace"),
        room_pct=value(f"room_to_{period}_pct"),
        room_moves=moves_left,
        room_days=moves_left**2 if moves_left > 0 else None,
        sessions_left=end - (so_far - 1),
        reason=view.reason(f"{period}_position", row),
    )


def _intraday(view: View, row: int) -> Intraday:
    close = view.day_bars(row).close[0]
    known = np.flatnonzero(np.isfinite(close))
    last = int(known[-1]) + 1 if known.size else 0
    move, anchor = float(view.metric("one_day_move")[row]), view.previous_close(row)
    minutes = view.hours.minutes(view.today)
    elapsed = np.round(minutes * np.linspace(0, 1, 21) ** 2)
    width = fan(move, elapsed, minutes)
    return Intraday(
        previous_close=anchor,
        one_day_move=move,
        minutes=[5 * (i + 1) for i in range(last)],
        close=close[:last].tolist(),
        session_minutes=minutes,
        fan=DayFan(minutes=elapsed.tolist(), lower=(anchor - width).tolist(), upper=(anchor + width).tolist())
        if np.isfinite(anchor + move)
        else None,
        reason=view.reason("spent", row),
    )


def _ledger(view: View, row: int, period: str) -> Ledger:
    band = view.band(period)
    # The cycle that runs is not over until its last session is.
    over = [span for span in _spans(view, period) if span[1] < view.last]
    starts, ends = np.array(over[-_LEDGER[period] :], dtype=np.int64).reshape(-1, 2).T
    _, high, low, close = view.prices(row)
    outcomes = cycle_outcomes(high, low, close, band.anchor[row], band.half_width[row], starts, ends)
    known, inside = outcomes.known, outcomes.inside
    return Ledger(
        period=period,
        cycles=[
            PastCycle(
                start=market_date(view.calendar, starts[i]),
                end=market_date(view.calendar, ends[i]),
                anchor=band.anchor[row, ends[i]],
                priced=percent(outcomes.priced[i]),
                moved=percent(outcomes.moved[i]),
                position=outcomes.position[i],
                inside=bool(inside[i]),
                worst=outcomes.worst[i],
            )
            for i in np.flatnonzero(known)[::-1].tolist()
        ],
        inside=int(inside.sum()),
        known=int(known.sum()),
        verdict=ledger_verdict(int(inside.sum()), int(known.sum())),
        missing=int((~known).sum()),
    )
