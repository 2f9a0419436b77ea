"""Dossier, off-exchange: where one name's prints piled up, whether price turned there, and the record beside chance."""

from __future__ import annotations

import datetime as dt
from typing import Literal

import numpy as np
from pydantic import BaseModel, Field

from flinch.core.arrays import IntArray
from flinch.core.rules import percent
from flinch.core.shelves import OUTCOMES, Shelves
from flinch.market import View
from flinch.market.prints import MOST_SESSIONS, Prints, market_prints, window_of
from flinch.market.shelves import QUARTER, WINDOW, NameBars, Tested, follow_name, market_record, shelves_of
from flinch.screening.shelf_record import RecordRow, record_row
from flinch.web import AsOfQuery

BURSTS_SHOWN, TESTS_SHOWN = 120, 200
Outcome = Literal["open", "held", "broke"]


class PrintsQuery(AsOfQuery):
    sessions: int = Field(WINDOW, description=f"How many sessions back; 1 to {MOST_SESSIONS}")
    first: dt.date | None = Field(None, description="In place of that: from this day on")
    last: dt.date | None = Field(None, description="Up to this day; none: the as-of session")


class PriceBar(BaseModel):
    """A day, or a quarter of an hour where there are minutes."""

    at: dt.datetime
    day: bool
    share: float = Field(description="Where in its session its middle lies, from 0 to 1")
    high: float | None
    low: float | None


class ShelfRow(BaseModel):
    """A price where notional piled up over the window, and the tests of what was known of it."""

    price: float
    low: float
    high: float
    notional: float
    share_pct: float = Field(description="Of all notional in the window")
    count: int = Field(description="Bursts that it takes")
    away_pct: float | None
    away_moves: float | None = Field(description="From the price now, in one-day expected moves; above it positive")
    held: int
    broke: int
    open: int


class TestRow(BaseModel):
    """When price reached a shelf as it was known the evening before, and what came of it."""

    at: dt.datetime
    day: bool = Field(description="Its bars are days, not quarters of an hour")
    bars: int
    price: float
    low: float
    high: float
    share_pct: float
    came_from: Literal["above", "below"]
    outcome: Outcome


class BurstRow(BaseModel):
    """Prints that were one burst, or one that makes no level."""

    at: dt.datetime
    price: float
    shares: int
    notional: float
    prints: int
    conditions: list[str]
    share_pct: float = Field(description="Of all notional in the window")


class PrintsView(BaseModel):
    """One name's off-exchange prints."""

    symbol: str
    session: dt.date
    first_session: dt.date | None = Field(description="The window's first session; missing when no prints are kept")
    last_session: dt.date | None
    price: float | None
    bars: list[PriceBar]
    notional: float = Field(description="Of all bursts in the window")
    share_pct: float | None = Field(description="Shares of all bursts in percent of the volume")
    prints: int
    bursts_total: int
    outside: float = Field(description="Notional of bursts in no shelf")
    shelves: list[ShelfRow]
    tests: list[TestRow] = Field(description="Newest first")
    tests_total: int
    bursts: list[BurstRow] = Field(description="By notional")
    record: list[RecordRow]
    tested_over: int = Field(description="Sessions of prints that make the shelves that are tested")
    reason: str | None = Field(description="Why there is nothing to show")


def prints(view: View, symbol: str, query: PrintsQuery) -> PrintsView:
    """One name's shelves over a window, their tests, the record, and its bursts; raises UnknownName, NoSuchWindow."""
    row, every = view.row(symbol), market_prints(view)
    first, last = window_of(view, every, query.sessions, query.first, query.last)
    price, move = view.price(row), float(view.metric("one_day_move")[row])
    bursts = every.bursts_of(row, first, last)
    told = every.of(row, first, last)
    shelves = shelves_of(every, row, first, last, float(view.metric("next_day_move")[row]))
    tested = follow_name(view, row)
    volume = float(np.nansum(view.frame.volume[row, first : last + 1]))
    notional, shares = float(every.bursts.notional[bursts].sum()), int(every.bursts.shares[bursts].sum())
    held = every.sessions[every.sessions <= view.last]
    newest = np.argsort(-tested.tests.begin, kind="stable")
    return PrintsView(
        symbol=view.name(row).symbol,
        session=view.today,
        first_session=view.date(first) if last >= first else None,
        last_session=view.date(last) if last >= first else None,
        price=price,
        bars=_bars(view, tested, first, last),
        notional=notional,
        share_pct=percent(shares / volume) if volume > 0 else None,
        prints=told.size,
        bursts_total=bursts.size,
        outside=notional - float(shelves.notional.sum()),
        shelves=_shelves(shelves, tested, price, move),
        tests=[_test(view, tested, test) for test in newest[:TESTS_SHOWN].tolist()],
        tests_total=newest.size,
        bursts=_largest(view, every, told, notional),
        record=_record(view, row),
        tested_over=WINDOW,
        reason=_reason(view, row, held, told),
    )


def _reason(view: View, row: int, held: IntArray, told: IntArray) -> str | None:
    if not held.size:
        return "no prints are kept up to this session"
    if not told.size:
        return "an index does not trade" if view.name(row).kind == "index" else "it had no prints in this window"
    return None


def _bars(view: View, tested: Tested, first: int, last: int) -> list[PriceBar]:
    bars = tested.bars
    return [
        PriceBar(
            at=_begins(view, tested, place),
            day=bool(bars.place[place] < 0),
            share=_share(view, bars, place),
            high=float(bars.bars.high[place]),
            low=float(bars.bars.low[place]),
        )
        for place in np.flatnonzero((bars.session >= first) & (bars.session <= last)).tolist()
    ]


def _share(view: View, bars: NameBars, bar: int) -> float:
    if bars.place[bar] < 0:
        return 0.5
    minutes = view.hours.minutes(view.date(int(bars.session[bar])))
    return min(1.0, QUARTER * (int(bars.place[bar]) + 0.5) / minutes)


def _begins(view: View, tested: Tested, bar: int) -> dt.datetime:
    session, place = int(tested.bars.session[bar]), int(tested.bars.place[bar])
    opened = view.hours.opens(view.date(session)).astimezone(dt.UTC)
    return opened + dt.timedelta(minutes=QUARTER * max(place, 0))


def _shelves(shelves: Shelves, tested: Tested, price: float, move: float) -> list[ShelfRow]:
    known, tests = tested.known, tested.tests
    low, high = known.low[tests.band], known.high[tests.band]
    rows = []
    for i in np.argsort(-shelves.price, kind="stable").tolist():
        level = float(shelves.price[i])
        counts = np.bincount(tests.outcome[(low <= level) & (level <= high)], minlength=len(OUTCOMES))
        rows.append(
            ShelfRow(
                price=round(level, 2),
                low=round(float(shelves.low[i]), 2),
                high=round(float(shelves.high[i]), 2),
                notional=float(shelves.notional[i]),
                share_pct=percent(float(shelves.share[i])),
                count=int(shelves.count[i]),
                away_pct=percent(level / price - 1),
                away_moves=(level - price) / move if move > 0 else None,
                open=int(counts[0]),
                held=int(counts[1]),
                broke=int(counts[2]),
            )
        )
    return rows


def _test(view: View, tested: Tested, test: int) -> TestRow:
    known, tests = tested.known, tested.tests
    band, begin, end = int(tests.band[test]), int(tests.begin[test]), int(tests.end[test])
    return TestRow(
        at=_begins(view, tested, begin),
        day=bool(tested.bars.place[begin] < 0),
        bars=end - begin + 1,
        price=round(float(known.price[band]), 2),
        low=round(float(known.low[band]), 2),
        high=round(float(known.high[band]), 2),
        share_pct=percent(float(known.share[band])),
        came_from="above" if tests.came_from[test] > 0 else "below",
        outcome=OUTCOMES[int(tests.outcome[test])],
    )


def _largest(view: View, every: Prints, told: IntArray, notional: float) -> list[BurstRow]:
    """Bursts and prints that make no level, the ones with most notional first."""
    lines, rows = every.lines(told), []
    for line in np.argsort(-lines.notional, kind="stable")[:BURSTS_SHOWN].tolist():
        place, paid, shares = int(lines.place[line]), float(lines.notional[line]), int(lines.shares[line])
        midnight = dt.datetime.combine(view.date(int(every.session[place])), dt.time(), dt.UTC)
        rows.append(
            BurstRow(
                at=midnight + dt.timedelta(milliseconds=int(every.at[place])),
                price=round(paid / shares, 4),
                shares=shares,
                notional=paid,
                prints=int(lines.prints[line]),
                conditions=every.words(place),
                share_pct=percent(paid / notional) if notional > 0 else 0.0,
            )
        )
    return rows


def _record(view: View, row: int) -> list[RecordRow]:
    record = market_record(view)
    return [
        record_row(view.name(row).symbol, record.of(np.array([row]))),
        record_row("all names", record.of()),
    ]
