"""Own lines of one name: how far they are, and the chance to touch them by a day."""

from __future__ import annotations

import datetime as dt

import numpy as np

from flinch.core.calendar import years_to_close
from flinch.core.evidence import past_touch, span_smiles, touch_chance
from flinch.core.rules import percent
from flinch.errors import FlinchError
from flinch.features.lines.schemas import LineRow, LinesView
from flinch.market import View
from flinch.store.owned.models import OwnLine as Row

USUAL_SESSIONS = 21


class NoSuchDay(FlinchError):
    """A day by which nothing can be touched."""

    kind, where = "bad_day", "by"


def lines(view: View, kept: list[Row], symbol: str, by: dt.date | None) -> LinesView:
    """One name's lines as of a view; raises UnknownName, NoSuchDay."""
    row = view.row(symbol)
    called = view.name(row).symbol
    mine = [line for line in kept if line.symbol == called]
    there = [line for line in mine if line.since <= view.today]
    day, sessions = _until(view, by)
    return LinesView(
        symbol=called,
        session=view.today,
        price=view.price(row),
        by=day,
        sessions=sessions,
        lines=[_line(view, row, line, day, sessions) for line in sorted(there, key=lambda line: -line.price)],
        later=len(mine) - len(there),
    )


def _until(view: View, by: dt.date | None) -> tuple[dt.date, int]:
    """The last session up to a day, and how many sessions it is away."""
    ahead = view.calendar[view.end :]
    if by is None:
        place = min(USUAL_SESSIONS, ahead.size) - 1
    else:
        place = int(np.searchsorted(ahead, np.datetime64(by, "D"), side="right")) - 1
        if place < 0:
            raise NoSuchDay(f"{by:%-d %b %Y} is not after {view.today:%-d %b %Y}. Choose a later day.")
        if by > _date(ahead[-1]):
            raise NoSuchDay(f"Sessions are known until {_date(ahead[-1]):%-d %b %Y}. Choose a day by then.")
    return _date(ahead[place]), place + 1


def _line(view: View, row: int, line: Row, day: dt.date, sessions: int) -> LineRow:
    price, move = view.price(row), float(view.metric("next_day_move")[row])
    chance, reason = _priced(view, row, line.price, day)
    _, high, low, close = view.prices(row)
    past = past_touch(high, low, close, line.price, sessions)
    return LineRow(
        id=line.id,
        version=line.version,
        symbol=line.symbol,
        name=line.name,
        price=line.price,
        note=line.note,
        since=line.since,
        away_pct=percent(line.price / price - 1),
        away_moves=(line.price - price) / move if move > 0 else None,
        priced_chance_pct=chance,
        priced_reason=reason,
        past_chance_pct=percent(past.chance),
        past_windows=past.windows,
        past_apart=past.apart,
    )


def _priced(view: View, row: int, level: float, day: dt.date) -> tuple[float | None, str | None]:
    """The chance that the surface gives to touching a level by a day's close, a percentage; else why there is none."""
    price, expirations = view.price(row), view.readable_expirations(row)
    if not expirations or not np.isfinite(price):
        return None, "no expiration has a volatility that could be read" if np.isfinite(price) else "it has no price"
    years = np.array([expiry.years for expiry in expirations])
    # Without a fitted slice an expiration has its volatility at the money alone.
    flat = np.array([[expiry.vol**2 * expiry.years, 0.0, 0.0, 0.0, 1.0] for expiry in expirations])
    fitted = np.array([expiry.svi for expiry in expirations], dtype=np.float64)
    parameters = np.where(np.isfinite(fitted).all(axis=1, keepdims=True), fitted, flat)
    left = years_to_close(np.array([day], dtype="datetime64[D]"), view.as_of, view.hours)
    mine = np.zeros(years.size, dtype=np.int64)
    chance = touch_chance(np.array([level / price]), span_smiles(mine, years, parameters, mine[:1], left))
    return (percent(float(chance[0])), None) if np.isfinite(chance[0]) else (None, "its smile could not be read")


def _date(day: np.datetime64) -> dt.date:
    return dt.date.fromisoformat(str(day))
