"""Where names stand among the prices at which much was printed, and the session's prints as they came."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.rules import percent
from flinch.core.shelves import NONE, NONE_LARGE, POSITIONS, Standing, book_levels, stand
from flinch.errors import FlinchError
from flinch.features.offexchange.schemas import (
    MOST_LEVELS,
    Level,
    Part,
    PrintLine,
    PrintsName,
    PrintsReply,
    PrintsRequest,
    ShelfRecord,
    StackAsked,
    Window,
)
from flinch.market import Dictionary, View
from flinch.market.prints import Prints, market_prints, window_of
from flinch.market.shelves import Ended, market_record
from flinch.screening.columns import Described
from flinch.screening.groups import universe
from flinch.screening.report import rule_reports
from flinch.screening.run import Ran, run_stack
from flinch.screening.shelf_record import record_row
from flinch.store.owned.owners import Whose

MOST_SYMBOLS = 2_000


class NoSuchSize(FlinchError):
    """A size that no level can have; the message says what to do."""

    kind, where = "no_such_size", "least"


@dataclass(frozen=True)
class Found:
    """Survivors of a stack and where they stand: `first` and `last` bound the window, `rows` are the survivors at the positions
    chosen; `traded` are all shares printed in it, by name."""

    view: View
    prints: Prints
    first: int
    last: int
    window: Window
    ran: Ran
    standing: Standing
    traded: FloatArray
    survivors: IntArray
    rows: IntArray

    @property
    def kept(self) -> bool:
        """Whether any prints are kept up to the view's session."""
        return self.last >= self.first


def find(view: View, engine: Engine, whose: Whose, dictionary: Dictionary, asked: StackAsked) -> Found:
    """Run a stack and see where its survivors stand; raises NoSuchGroup, NoSuchWindow, NoSuchSize."""
    if not 0 < (window := asked.window).least <= 1e15:
        raise NoSuchSize("A level must be larger than nothing: give a size above zero.")
    prints = market_prints(view)
    first, last = window_of(view, prints, window.sessions, window.first, window.last)
    ran = run_stack(view, dictionary, asked.stack, universe(view, engine, whose, asked.stack.universe))
    price = np.ascontiguousarray(view.frame.close[:, view.last])
    standing = stand(prints.book, price, first, last, **window.bounds)
    traded = prints.traded(first, last)
    # Who has prints of which none makes a level has none that large, not none at all.
    standing.position[(standing.position == NONE) & (traded > 0) & np.isfinite(price)] = NONE_LARGE
    survivors = np.flatnonzero(ran.result.survivors)
    chosen = [POSITIONS.index(position) for position in asked.positions]
    rows = survivors[np.isin(standing.position[survivors], chosen)] if chosen else survivors
    return Found(view, prints, first, last, window, ran, standing, traded, survivors, rows)


def look(found: Found, own: dict[str, Described], request: PrintsRequest) -> PrintsReply:
    """The funnel, the positions, and the rows asked for."""
    view, prints = found.view, found.prints
    counts = np.bincount(found.standing.position[found.survivors], minlength=len(POSITIONS))
    rows: dict[str, Any]
    if request.view == "names":
        order = ordered(found, request.sort)
        page = order[request.first : request.first + request.count]
        tell = name_teller(found)
        rows = {"total": order.size, "names": [tell(row) for row in page.tolist()]}
    else:
        lines, whose = session_prints(found, request.first, request.count)
        rows = {"total": whose.size, "prints": lines}
        order = whose[np.sort(np.unique(whose, return_index=True)[1])]
    return PrintsReply(
        version=view.data_version,
        session=view.today,
        newest=view.is_newest,
        past=view.past,
        first_session=view.date(found.first) if found.kept else None,
        last_session=view.date(found.last) if found.kept else None,
        universe=int(found.ran.universe.sum()),
        survivors=found.survivors.size,
        positions={position: int(count) for position, count in zip(POSITIONS, counts, strict=True)},
        shown=found.rows.size,
        symbols=[view.name(row).symbol for row in order[:MOST_SYMBOLS].tolist()],
        rules=rule_reports(own, found.ran, request.aim),
        doubts=prints.doubts.words,
        **rows,
    )


# -- by name -----------------------------------------------------------------------------------------------------------


def _share(found: Found) -> FloatArray:
    """Shares of prints in the window in percent of its volume, by name."""
    volume = found.view.frame.volume[:, found.first : found.last + 1]
    with np.errstate(invalid="ignore", divide="ignore"):
        share: FloatArray = percent(found.traded / np.nansum(volume, axis=1))
    return np.where(np.isfinite(share), share, np.nan)


def ordered(found: Found, sort: str) -> IntArray:
    """The rows in an order; those without a value come last whichever way."""
    view, standing = found.view, found.standing
    price, move = view.frame.close[:, view.last], view.metric("one_day_move")
    key = sort.removeprefix("-")
    metrics = ("change_pct", "days_to_earnings", "days_to_ex_dividend")
    columns: dict[str, Callable[[], FloatArray]] = {
        "symbol": lambda: np.argsort(np.argsort([name.symbol for name in view.frame.names])).astype(np.float64),
        "position": lambda: standing.position.astype(np.float64),
        "count": lambda: standing.levels.astype(np.float64),
        "above_moves": lambda: (standing.above - price) / move,
        "below_moves": lambda: (standing.below - price) / move,
        "largest_moves": lambda: (standing.largest - price) / move,
        "share_pct": lambda: _share(found),
        "short_pct": lambda: view.metric("short_percent_float"),
        **{metric: lambda metric=metric: view.metric(metric) for metric in metrics},  # type: ignore[misc]
    }
    with np.errstate(invalid="ignore", divide="ignore"):
        values = columns.get(key, lambda: standing.largest_notional)()[found.rows]
    falling = sort.startswith("-")
    order = np.argsort(np.where(np.isnan(values), np.inf, -values if falling else values), kind="stable")
    return found.rows[order]


def name_teller(found: Found) -> Callable[[int], PrintsName]:
    """What tells of a name; what all of them need is computed once."""
    view, standing, share = found.view, found.standing, _share(found)
    metrics = {
        key: view.metric(key)
        for key in (
            "change_pct", "one_day_move", "days_to_earnings", "short_percent_float", "short_change", "days_to_ex_dividend",
            "next_dividend",
        )
    }  # fmt: skip

    def tell(row: int) -> PrintsName:
        price, move = view.price(row), float(metrics["one_day_move"][row])

        def known(value: float) -> float | None:
            return value if np.isfinite(value) else None

        def away(level: float) -> tuple[float | None, float | None, float | None]:
            return known(level), known(percent(level / price - 1)), known((level - price) / move) if move > 0 else None

        report = view.next_report(row)
        (above, above_pct, above_moves), (below, below_pct, below_moves), (largest, _, largest_moves) = (
            away(float(levels[row])) for levels in (standing.above, standing.below, standing.largest)
        )
        name = view.name(row)
        return PrintsName(
            symbol=name.symbol,
            company=name.company,
            price=known(price),
            change_pct=known(float(metrics["change_pct"][row])),
            position=POSITIONS[int(standing.position[row])],
            levels=levels_of(found, row, price, move),
            count=int(standing.levels[row]),
            above=above, above_pct=above_pct, above_moves=above_moves,
            below=below, below_pct=below_pct, below_moves=below_moves,
            largest=largest, largest_notional=float(standing.largest_notional[row]), largest_moves=largest_moves,
            share_pct=known(float(share[row])),
            days_to_earnings=known(float(metrics["days_to_earnings"][row])),
            earnings_timing=None if report is None else report.timing,
            short_pct=known(float(metrics["short_percent_float"][row])),
            short_change=known(float(metrics["short_change"][row])),
            days_to_ex_dividend=known(float(metrics["days_to_ex_dividend"][row])),
            next_dividend=known(float(metrics["next_dividend"][row])),
        )  # fmt: skip

    return tell


def levels_of(found: Found, row: int, price: float, move: float) -> list[Level]:
    """A name's largest levels, by price."""
    if found.standing.position[row] == NONE or not found.standing.levels[row]:
        return []
    levels = book_levels(found.prints.book, row, found.first, found.last, **found.window.bounds)
    largest = np.sort(np.argsort(-levels.notional, kind="stable")[:MOST_LEVELS])
    return [
        Level(
            price=round(float(levels.price[i]), 2),
            notional=float(levels.notional[i]),
            shares=int(levels.shares[i]),
            bursts=int(levels.bursts[i]),
            moves=(float(levels.price[i]) - price) / move if move > 0 else None,
        )
        for i in largest.tolist()
    ]


# -- as they came ------------------------------------------------------------------------------------------------------


def session_prints(found: Found, first: int, count: int) -> tuple[list[PrintLine], IntArray]:
    """The as-of session's bursts, and the prints that make no level, of the names shown and of the size asked for, newest first;
    some of them, and the names of all."""
    view, prints = found.view, found.prints
    told = prints.lines(np.flatnonzero((prints.session == view.last) & np.isin(prints.name, found.rows)))
    large = np.flatnonzero((told.notional if found.window.unit == "$" else told.shares) >= found.window.least)
    lines = large[np.argsort(-prints.at[told.place[large]], kind="stable")]
    move = view.metric("one_day_move")
    out = []
    for line in lines[first : first + count].tolist():
        place = int(told.place[line])
        row = int(prints.name[place])
        paid, traded = float(told.notional[line]), int(told.shares[line])
        price, now, volume = paid / traded, view.price(row), float(view.frame.volume[row, view.last])
        at = _moment(view, int(prints.at[place]))
        out.append(
            PrintLine(
                symbol=view.name(row).symbol,
                at=at,
                part=_part(view, at),
                price=round(price, 4),
                shares=traded,
                notional=paid,
                prints=int(told.prints[line]),
                conditions=prints.words(place),
                share_pct=percent(traded / volume) if volume > 0 else None,
                away_pct=percent(price / now - 1) if now > 0 else None,
                away_moves=float((price - now) / move[row]) if move[row] > 0 else None,
            )
        )
    return out, prints.name[told.place[lines]].astype(np.int64)


_STRENGTHS = (
    (0.0, 0.1, "shelves of 3 to 10 % of the window"),
    (0.1, 0.25, "of 10 to 25 %"),
    (0.25, 2.0, "of 25 % and more"),
)


def shelf_record(found: Found) -> ShelfRecord:
    """The record of the names shown and of all; of the former's tests also by the side price came from and the shelf's share."""
    view, rows = found.view, found.rows
    left = f"the {rows.size:,} names left" if rows.size != 1 else "the name left"
    parts: list[tuple[str, Callable[[Ended], BoolArray]]] = [
        ("of these, reached from above", lambda tests: tests.came_from > 0),
        ("of these, reached from below", lambda tests: tests.came_from < 0),
        *[
            (f"of these, {words}", lambda tests, low=low, high=high: (tests.share >= low) & (tests.share < high))
            for low, high, words in _STRENGTHS
        ],
    ]
    every = market_record(view)
    told = [record_row(words, market_record(view, wanted).of(rows, len(parts))) for words, wanted in parts]
    held = found.prints.sessions[1:]
    return ShelfRecord(
        session=view.today,
        names=rows.size,
        first_session=view.date(int(held[0])) if held.size and held[0] <= view.last else None,
        rows=[record_row(left, every.of(rows)), record_row("all names", every.of()), *told],
    )


def _moment(view: View, milliseconds: int) -> dt.datetime:
    return dt.datetime.combine(view.today, dt.time(), dt.UTC) + dt.timedelta(milliseconds=milliseconds)


def _part(view: View, at: dt.datetime) -> Part:
    opens, closes = view.hours.opens(view.today), view.hours.closes(view.today)
    return "before the open" if at < opens else "regular hours" if at < closes else "after the close"
