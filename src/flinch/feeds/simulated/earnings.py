"""Earnings dates of the companies: when they report, what options price for it, what then happens."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import DateArray
from flinch.feeds.simulated.storylines import Storyline

# Most companies report in a season: three to eight weeks after the quarter ends.
_SEASON_SHARE = 0.72


class EarningsCalendar(NamedTuple):
    """Every report within the calendar, past and ahead, shape (reports,), ordered by company and date."""

    company: NDArray[np.int64]
    announced: NDArray[np.int64]  # session index of the report's own date
    reaction: NDArray[np.int64]  # session index at whose open the price reacts
    before_open: NDArray[np.bool_]
    priced_move: NDArray[np.float64]  # one standard deviation, as a share of price
    jump: NDArray[np.float64]  # log return that follows at the open


def make_earnings(
    calendar: DateArray,
    symbols: list[str],
    typical_move: NDArray[np.float64],
    planted: dict[str, Storyline],
    rng: np.random.Generator,
) -> EarningsCalendar:
    """Quarterly reports of every company over `calendar` (sessions past and ahead)."""
    quarters = np.arange(np.datetime64("2023-10"), np.datetime64("2029-01"), 3).astype("datetime64[D]")
    rows: list[tuple[int, int, int, bool, float, float]] = []
    for i, symbol in enumerate(symbols):
        seasonal = rng.random() < _SEASON_SHARE
        start = rng.integers(16, 54) if seasonal else rng.integers(0, 88)
        habit = bool(rng.random() < 0.5)
        days = quarters + start + rng.integers(-2, 3, quarters.size)
        moves = typical_move[i] * np.exp(rng.normal(0.0, 0.15, quarters.size))
        surprise = np.clip(rng.standard_t(4, quarters.size) / np.sqrt(2.0), -3.5, 3.5) * 0.92
        story = planted.get(symbol)
        if story and story.no_earnings_jump:
            surprise *= 0.2
        reports = [(np.datetime64(day, "D"), habit, float(move)) for day, move in zip(days, moves, strict=True)]
        for fixed in story.earnings if story else []:
            day = np.datetime64(fixed.date, "D")
            reports = [r for r in reports if abs(r[0] - day) > np.timedelta64(50, "D")]
            reports.append((day, fixed.timing == "before_open", fixed.move))
        if story and not story.earnings:
            # A planted case that is not about earnings has none within reach of the next month and the last weeks.
            near = (np.datetime64("2026-08-15"), np.datetime64("2026-10-14"))
            reports = [r for r in reports if not near[0] <= r[0] <= near[1]]
        for n, (day, before_open, move) in enumerate(sorted(reports)):
            announced = int(np.searchsorted(calendar, day))
            reaction = announced if before_open else announced + 1
            if 0 < reaction < calendar.size and calendar[0] < day:
                rows.append((i, announced, reaction, before_open, move, move * float(surprise[n % surprise.size])))
    columns = list(zip(*rows, strict=True))
    return EarningsCalendar(
        np.array(columns[0]),
        np.array(columns[1]),
        np.array(columns[2]),
        np.array(columns[3], dtype=bool),
        np.array(columns[4]),
        np.array(columns[5]),
    )
