"""Own lines of one name: how far they are, and the chance to touch them by a day."""

from __future__ import annotations

import datetime as dt

import numpy as np

from flinch.core.calendar import years_to_close
from flinch.core.evidence import past_touch, touch_chance
from flinch.core.rules import percent
from flinch.core.volatility import constant_maturity_vol, smile_vol
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
    """The chance to touch a level under a price without drift, at the surface's volatility for that strike and time."""
    price, expirations = view.price(row), view.readable_expirations(row)
    if not expirations or not np.isfinite(price):
        return None, "no expiration has a volatility that could be read" if np.isfinite(price) else "it has no price"
    years = np.array([expiry.years for expiry in expirations])
    forward = np.array([expiry.forward for expiry in expirations])
    # Without a fitted slice an expiration has its volatility at the money alone.
    fitted = smile_vol(np.array([expiry.svi for expiry in expirations]), years, np.log(level / forward))
    vols = np.where(np.isfinite(fitted), fitted, [expiry.vol for expiry in expirations])
    left = years_to_close(np.array([day], dtype="datetime64[D]"), view.as_of)
    vol = np.atleast_1d(constant_maturity_vol(years, vols, left))
    chance = touch_chance(np.array([level / price]), vol, left)
    return percent(float(chance[0])), None


def _date(day: np.datetime64) -> dt.date:
    return dt.date.fromisoformat(str(day))
