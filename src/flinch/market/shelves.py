"""Shelves of names as they were known session after session, whether they held, and the same distance on the other side of price
beside them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.interrupt import checkpoint, in_threads
from flinch.core.rules import evaluate
from flinch.core.shelves import (
    ABOVE,
    BANDWIDTH_MOVES,
    BELOW,
    BROKE,
    HELD,
    HELD_MOVES,
    OPEN,
    WITHIN,
    Bands,
    BandTests,
    Bars,
    Compared,
    Shelves,
    band_tests,
    compare_holding,
    find_window_shelves,
    stand,
)
from flinch.market.bars import load_bars
from flinch.market.columns import Arrays
from flinch.market.dictionary import PLAIN
from flinch.market.prints import Prints, market_prints
from flinch.market.view import View

WINDOW = 20
"""Sessions of prints that make the shelves that are tested."""
QUARTER = 15
_MINUTE_DAYS = 63
"""Newest sessions whose quarters of an hour tests are followed by, where there are minutes; those before are followed by days."""
_WINDOWS_AT_ONCE, _THREADS = 2_000, 2


class NameBars(NamedTuple):
    """A name's bars in order of time, shape (bars,): a day each, and a quarter of an hour where there are minutes. `session` is
    an index of the frame, `place` the quarter of its session, -1 for a day."""

    bars: Bars
    session: IntArray
    place: IntArray


class Known(NamedTuple):
    """Shelves as they were known before sessions, shape (shelves,): the session that they could be tested in, price, lowest and
    highest price taken, notional and its share of the window's; price's close before and the one-day move priced then."""

    session: IntArray
    price: FloatArray
    low: FloatArray
    high: FloatArray
    notional: FloatArray
    share: FloatArray
    close: FloatArray
    move: FloatArray

    def between(self, first: int, last: int) -> Known:
        """Those from one place to before another."""
        return Known(self.session[first:last], *(column[first:last] for column in self[1:]))


@dataclass(frozen=True)
class Tested:
    """A name's bars, its shelves as they were known, and their tests: `tests.band` is a place in `known`."""

    bars: NameBars
    known: Known
    tests: BandTests


class Ended(NamedTuple):
    """Tests of all names, shape (tests,): row of the name, sessions in which it began and was decided (or the last one), a place
    in `OUTCOMES`, the side that price came from (+1 above), and the shelf's share of the window's notional."""

    name: IntArray
    began: IntArray
    ended: IntArray
    outcome: NDArray[np.int8]
    came_from: NDArray[np.int8]
    share: FloatArray


@dataclass(frozen=True)
class History:
    """Shelves of all names as they were known, `name` says whose, and the tests of those and of their placebo."""

    name: IntArray
    known: Known
    tests: Ended
    placebo: Ended


@dataclass(frozen=True)
class Record:
    """Of every name and session of the frame how many tests began that held and that were decided, of shelves and of the same
    distance on the other side of price."""

    held: FloatArray
    decided: FloatArray
    placebo_held: FloatArray
    placebo_decided: FloatArray

    def of(self, rows: IntArray | slice = slice(None), looks: int = 1) -> Compared:
        """Some names' shelves beside their placebo, as one of so many looks."""
        columns = (self.held, self.decided, self.placebo_held, self.placebo_decided)
        return compare_holding(*(column[rows] for column in columns), looks=looks)


def shelves_of(prints: Prints, row: int, first: int, last: int, move: float) -> Shelves:
    """Shelves of a name's bursts in some sessions, smoothed by a share of its one-day move (price units); none without one."""
    return _window_shelves(prints, np.array([row]), np.array([first]), np.array([last]), np.array([move]))[1]


def _window_shelves(
    prints: Prints, rows: IntArray, first: IntArray, last: IntArray, moves: FloatArray
) -> tuple[IntArray, Shelves]:
    """Shelves of many names' windows, shape (windows,), and the window of each, by window and price."""
    begin, end = prints.burst_spans(rows, first, last)
    bursts, bandwidth = prints.bursts, BANDWIDTH_MOVES * moves

    def look(part: IntArray) -> tuple[IntArray, Shelves]:
        checkpoint()
        window, found = find_window_shelves(bursts.price, bursts.notional, begin[part], end[part], bandwidth[part])
        return part[window], found

    parts = in_threads(look, np.array_split(np.arange(rows.size), 1 + rows.size // _WINDOWS_AT_ONCE), _THREADS)
    windows, shelves = zip(*parts, strict=True)
    return np.concatenate(windows), Shelves(*map(np.concatenate, zip(*shelves, strict=True)))


def follow_name(view: View, row: int) -> Tested:
    """A name's shelves of every session of which prints are kept, up to a view's, and how they fared."""
    prints = market_prints(view)
    moves = view.history(PLAIN.read("one_day_move").node, row)
    quarters = load_bars(
        view.store, view.frame.ids[row : row + 1], view.version.frame.sessions, view.hours, most=_MINUTE_DAYS
    )[QUARTER]
    bars = _bars(view, prints, row, (quarters.high[0], quarters.low[0], quarters.close[0]), quarters.session)
    known = _known(view, prints, np.array([row]), moves[None, :])[1]
    return Tested(bars, known, _tests(bars, known))


def market_history(view: View) -> History:
    """Shelves and tests of all names of a view's version, made once, whatever its session: each is of what was known then."""
    return view.version.share(("shelves",), lambda: _history(View(view.version)), 1)


def market_record(view: View, wanted: Callable[[Ended], BoolArray] | None = None) -> Record:
    """The record of all names by what was decided up to a view's session; of some tests alone, and of the placebo of theirs."""
    history = market_history(view)
    shape = (len(view.frame.names), view.version.frame.sessions.size)
    counts = []
    for tests in (history.tests, history.placebo):
        for which in (tests.outcome == HELD, tests.outcome != OPEN):
            known = which & (tests.ended <= view.last)
            if wanted is not None:
                known &= wanted(tests)
            counts.append(np.zeros(shape))
            np.add.at(counts[-1], (tests.name[known], tests.began[known]), 1.0)
    return Record(*counts)


def _history(view: View) -> History:
    prints, every = market_prints(view), view.version.frame
    quarters = view.version.newest_bars("quarters", (QUARTER,), _MINUTE_DAYS)[QUARTER]
    rows = np.arange(len(every.names))

    def before() -> Arrays:
        # What can be tested in a session was known the evening before.
        moves = np.asarray(evaluate([PLAIN.read("one_day_move").node], view.panel, 0, view.end)[0])
        name, known = _known(view, prints, rows, moves)
        return {"name": name, **known._asdict()}

    kept = view.version.arrays("shelves", before, of="before", beside=f"-{prints.sessions.size}")
    name, known = kept["name"], Known(*(kept[key] for key in Known._fields))
    begin = np.searchsorted(name, np.append(rows, rows.size))
    tests: tuple[list[Ended], list[Ended]] = ([], [])
    for row in rows.tolist():
        checkpoint()
        bars = _bars(view, prints, row, (quarters.high[row], quarters.low[row], quarters.close[row]), quarters.session)
        mine = known.between(int(begin[row]), int(begin[row + 1]))
        for bands, out in zip((mine, _elsewhere(mine)), tests, strict=True):
            found = _tests(bars, bands)
            ended = bars.session[found.end]
            began, whose = bars.session[found.begin], np.full(ended.size, row)
            out.append(Ended(whose, began, ended, found.outcome, found.came_from, bands.share[found.band]))
    real, placebo = (Ended(*map(np.concatenate, zip(*found, strict=True))) for found in tests)
    return History(name, known, real, placebo)


def _elsewhere(known: Known) -> Known:
    """The same bands at the same distances on the other side of price: nothing was printed for them to be there."""
    return known._replace(
        price=2 * known.close - known.price, low=2 * known.close - known.high, high=2 * known.close - known.low
    )


def _bars(
    view: View, prints: Prints, row: int, quarters: tuple[FloatArray, FloatArray, FloatArray], session: IntArray
) -> NameBars:
    frame = view.frame
    first = int(prints.sessions[0]) if prints.sessions.size else view.end
    inside = np.flatnonzero(session <= view.last)
    minutes = int(session[inside[0]]) if inside.size else view.end
    daily = np.arange(first, min(minutes, view.end))
    columns = (
        np.concatenate([days[row, daily], told[inside]])
        for days, told in zip((frame.high, frame.low, frame.close), quarters, strict=True)
    )
    begins = np.searchsorted(session[inside], session[inside])
    return NameBars(
        Bars(*columns),
        np.concatenate([daily, session[inside]]),
        np.concatenate([np.full(daily.size, -1), np.arange(inside.size) - begins]),
    )


def _known(view: View, prints: Prints, rows: IntArray, moves: FloatArray) -> tuple[IntArray, Known]:
    """Shelves of some names, and the row of each, by name and session; `moves` are theirs, names x sessions. That of a session is
    as priced at the close before."""
    tested = prints.sessions[prints.sessions <= view.last][1:]
    name, session = (grid.ravel() for grid in np.broadcast_arrays(rows[:, None], tested))
    close, move = view.frame.close[name, session - 1], moves[:, tested].ravel()
    usable = np.where(np.isfinite(close), move, np.nan)
    window, found = _window_shelves(prints, name, session - WINDOW, session - 1, usable)
    shelves = (found.price, found.low, found.high, found.notional, found.share)
    return name[window], Known(session[window], *shelves, close[window], move[window])


def _tests(bars: NameBars, known: Known) -> BandTests:
    """Tests of bands in the sessions in which they are known; one that begins while a band over it is still being tested is part
    of that test."""
    first, last = (np.searchsorted(bars.session, known.session, side) for side in ("left", "right"))
    low, high = known.low, known.high
    found = band_tests(bars.bars, Bands(low, high, HELD_MOVES * known.move, first, last))
    order = np.lexsort((found.band, found.begin))
    kept: list[int] = []
    under_way: list[int] = []
    for test in order.tolist():
        band, begin = found.band[test], found.begin[test]
        under_way = [other for other in under_way if found.end[other] >= begin]
        over = any(low[found.band[o]] <= high[band] and low[band] <= high[found.band[o]] for o in under_way)
        if not over:
            kept.append(test)
            under_way.append(test)
    chosen = np.array(kept, np.int64)
    return BandTests(
        found.band[chosen], found.begin[chosen], found.end[chosen], found.came_from[chosen], found.outcome[chosen]
    )


def _positions(view: View, prints: Prints, sessions: IntArray) -> Arrays:
    """Where each session's close stands among the levels of its window, by size: `_SIGN`, NaN without one; names x sessions."""
    frame = view.version.frame
    out: Arrays = {size: np.full((len(frame.names), sessions.size), np.nan) for size in SIZES}
    for column, session in enumerate(sessions.tolist()):
        checkpoint()
        price = np.ascontiguousarray(frame.close[:, session])
        for size, least in SIZES.items():
            found = stand(prints.book, price, session - WINDOW + 1, session, least=least).position
            for place, sign in _SIGN.items():
                out[size][found == place, column] = sign
    return out


SIZES = {"1m": 1e6, "5m": 5e6, "20m": 20e6}
"""Sizes at which positions are kept for every session."""
SERIES = (
    "print_shares", "print_notional", "print_bursts", "largest_burst",
    *[f"print_position_{size}" for size in SIZES],
    "shelf_above", "shelf_above_notional", "shelf_below", "shelf_below_notional", "shelf_held", "shelf_broke",
)  # fmt: skip
_SIGN = {ABOVE: 1.0, WITHIN: 0.0, BELOW: -1.0}


def print_series(view: View) -> dict[str, FloatArray]:
    """What prints came to for every name and session of a version, names x sessions, each from what was known when the session
    ended; NaN where no prints are kept.

    `print_shares`, `print_notional` and `print_bursts` of the session, `largest_burst` in money (0 without one);
    `print_position_...`: +1 above all levels of that size over twenty sessions, 0 within, -1 below all, NaN without one; price
    and notional of the nearest shelf whose price lies above and below the close, over twenty sessions; `shelf_held` and
    `shelf_broke`: tests that were decided in the session.
    """
    view = View(view.version)
    prints, frame = market_prints(view), view.version.frame
    shape = (len(frame.names), frame.sessions.size)
    out = {key: np.full(shape, np.nan) for key in SERIES}
    held = prints.sessions
    traded = np.isfinite(frame.volume[:, held])
    for key in (*SERIES[:4], "shelf_held", "shelf_broke"):
        out[key][:, held] = np.where(traded, 0.0, np.nan)
    np.add.at(out["print_shares"], (prints.name, prints.session), prints.shares)
    np.add.at(out["print_notional"], (prints.name, prints.session), prints.shares * prints.price)
    np.add.at(out["print_bursts"], (prints.bursts.name, prints.bursts.session), 1.0)
    np.maximum.at(out["largest_burst"], (prints.bursts.name, prints.bursts.session), prints.bursts.notional)
    earlier, today = held[held < view.last], held[held >= view.last]
    kept = view.version.arrays(
        "positions", lambda: _positions(view, prints, earlier), of="before", beside=f"-{earlier.size}"
    )
    for sessions, positions in ((earlier, kept), (today, _positions(view, prints, today))):
        for size, columns in positions.items():
            out[f"print_position_{size}"][:, sessions] = columns
    history = market_history(view)
    for outcome, key in ((HELD, "shelf_held"), (BROKE, "shelf_broke")):
        which = history.tests.outcome == outcome
        np.add.at(out[key], (history.tests.name[which], history.tests.ended[which]), 1.0)
    # What could be tested in a session is what was known the evening before.
    evening, name, known = history.known.session - 1, history.name, history.known
    rows, newest = np.arange(len(frame.names)), np.full(len(frame.names), view.last)
    row, shelves = _window_shelves(prints, rows, newest - WINDOW + 1, newest, view.metric("next_day_move"))
    evening = np.concatenate([evening, newest[row]])
    name = np.concatenate([name, row])
    price, notional = (np.concatenate([getattr(known, key), getattr(shelves, key)]) for key in ("price", "notional"))
    close = frame.close[name, evening]
    for side, key in ((price >= close, "shelf_above"), (price < close, "shelf_below")):
        # Of several the nearest is written last, and stays.
        far = np.flatnonzero(side)[np.argsort(-np.abs(price - close)[side], kind="stable")]
        out[key][name[far], evening[far]] = price[far]
        out[f"{key}_notional"][name[far], evening[far]] = notional[far]
    return out
