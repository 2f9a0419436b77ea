"""Off-exchange prints of all names as a version of the market has them: bursts, and the book that levels are read from."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.shelves import Book, make_book, make_bursts
from flinch.errors import FlinchError
from flinch.market.columns import Arrays
from flinch.market.view import View
from flinch.store.market.prints import AVERAGE, DERIVATIVE, LATE, read_print_sessions, read_prints
from flinch.store.reading import numbers

_DAY = 86_400_000_000_000
_MILLISECOND = 1_000_000
MOST_SESSIONS = 60
CONDITIONS = {AVERAGE: "average price", DERIVATIVE: "derived price", LATE: "told late"}
"""Words for what makes no level."""


class NoSuchWindow(FlinchError):
    """Sessions that cannot be looked at; the message says what to do."""

    kind, where = "no_such_window", "window"


class Doubts(NamedTuple):
    """Prints that do not count: of unknown names, without a size or a price above zero, and later than the market's moment."""

    unknown: int
    no_size: int
    no_price: int
    future: int

    @property
    def words(self) -> list[str]:
        """What there is of it."""
        said = ("of names that are not listed", "without a size above zero", "without a price", "from the future")
        return [f"{number:,} {words}" for number, words in zip(self, said, strict=True) if number]


class MarketBursts(NamedTuple):
    """Bursts of all names that make levels, by name and time, shape (bursts,): row of the name, session (an index of the frame),
    price, notional, shares, how many prints."""

    name: NDArray[np.int32]
    session: NDArray[np.int16]
    price: FloatArray
    notional: FloatArray
    shares: NDArray[np.int32]
    prints: NDArray[np.int16]


class Lines(NamedTuple):
    """Prints as they are told, those of one burst together, shape (lines,): where the first print of each stands, shares and
    notional of all of them, how many."""

    place: IntArray
    shares: FloatArray
    notional: FloatArray
    prints: IntArray


@dataclass(frozen=True)
class Prints:
    """Prints that count, by name, session and time, shape (prints,): row of the name, session (an index of the frame),
    milliseconds since the session's midnight in UTC, price, shares, conditions, and the burst of each, -1 for one that makes no
    level.

    `begin` says where each name's begin, shape (names + 1,). `bursts` are those that make levels; `book` holds them by price.
    `sessions` are those of which prints are kept, oldest first.
    """

    sessions: IntArray
    begin: IntArray
    name: NDArray[np.int32]
    session: NDArray[np.int16]
    at: NDArray[np.int32]
    price: FloatArray
    shares: NDArray[np.int32]
    conditions: NDArray[np.uint8]
    burst: NDArray[np.int32]
    bursts: MarketBursts
    book: Book
    doubts: Doubts

    def of(self, row: int, first: int, last: int) -> IntArray:
        """Places of a name's prints in the sessions of a window."""
        mine = np.arange(self.begin[row], self.begin[row + 1])
        return mine[(self.session[mine] >= first) & (self.session[mine] <= last)]

    def traded(self, first: int, last: int) -> FloatArray:
        """Shares of all prints of each name in the sessions of a window, those that make no level among them; shape (names,)."""
        inside = (self.session >= first) & (self.session <= last)
        shares: FloatArray = np.bincount(self.name[inside], self.shares[inside], self.begin.size - 1).astype(np.float64)
        return shares

    def bursts_of(self, row: int, first: int, last: int) -> IntArray:
        """Places of a name's bursts in the sessions of a window, by time."""
        begin, end = self.burst_spans(np.array([row]), np.array([first]), np.array([last]))
        return np.arange(begin[0], end[0])

    def burst_spans(self, rows: IntArray, first: IntArray, last: IntArray) -> tuple[IntArray, IntArray]:
        """Of many names' windows, shape (windows,): where their bursts begin, and the place after
        the last; bursts of a window stand together."""
        many = int(self.sessions[-1]) + 2 if self.sessions.size else 1
        when = self.bursts.name.astype(np.int64) * many + self.bursts.session
        begin = np.searchsorted(when, rows * many + np.clip(first, 0, many - 1))
        end = np.searchsorted(when, rows * many + np.clip(last, -1, many - 2), side="right")
        return begin, np.maximum(begin, end)

    def lines(self, places: IntArray) -> Lines:
        """Some prints as they are told: a burst where its first one stands, and what makes no level by itself."""
        key = np.where(self.burst[places] >= 0, self.burst[places], -1 - places)
        _, begin, line = np.unique(key, return_index=True, return_inverse=True)
        shares = self.shares[places].astype(np.float64)
        notional = np.bincount(line, shares * self.price[places], begin.size)
        size = np.bincount(line, shares, begin.size).astype(np.float64)
        return Lines(places[begin], size, notional.astype(np.float64), np.bincount(line))

    def words(self, place: int) -> list[str]:
        """Why a print makes no level; nothing for one that does."""
        return [words for bit, words in CONDITIONS.items() if self.conditions[place] & bit]


_PLAIN = ("sessions", "begin", "name", "session", "at", "price", "shares", "conditions", "burst")
"""Fields of `Prints` that are arrays."""


def market_prints(view: View) -> Prints:
    """All prints of a view's version, read once. A view of an earlier session looks at its own sessions alone."""
    version = view.version

    def make() -> Prints:
        return _unpacked(version.arrays("prints", lambda: _packed(_read(view)), of="moment"))

    return version.share(("prints",), make, 1)


def _packed(prints: Prints) -> Arrays:
    """Prints as arrays alone."""
    plain = {key: getattr(prints, key) for key in _PLAIN}
    bursts = {f"burst-{key}": values for key, values in prints.bursts._asdict().items()}
    book = {f"book-{key}": values for key, values in prints.book._asdict().items()}
    return {**plain, **bursts, **book, "doubts": np.array(prints.doubts, np.int64)}


def _unpacked(arrays: Arrays) -> Prints:
    return Prints(
        **{key: arrays[key] for key in _PLAIN},
        bursts=MarketBursts(*(arrays[f"burst-{key}"] for key in MarketBursts._fields)),
        book=Book(*(arrays[f"book-{key}"] for key in Book._fields)),
        doubts=Doubts(*arrays["doubts"].tolist()),
    )


def window_of(
    view: View, prints: Prints, sessions: int, first: dt.date | None = None, last: dt.date | None = None
) -> tuple[int, int]:
    """First and last session of so many sessions up to a view's, or of those between two days, as indices of the frame; the last
    before the first when no prints are kept by then.

    Raises NoSuchWindow, with what to do.
    """
    held = prints.sessions[prints.sessions <= view.last]
    if not held.size:
        return 0, -1
    oldest, newest = view.date(int(held[0])), view.today
    if first is not None or last is not None:
        first, last = first or oldest, last or newest
        if first > last:
            raise NoSuchWindow(f"{first:%-d %b %Y} is after {last:%-d %b %Y}. Give the earlier day first.")
        if last < oldest or first > newest:
            raise NoSuchWindow(
                f"Prints are kept from {oldest:%-d %b %Y} to {newest:%-d %b %Y}. Choose days among them."
            )
        inside = held[[first <= view.date(int(session)) <= last for session in held]]
        if not inside.size:
            raise NoSuchWindow("No session lies between these days. Choose others.")
        return int(inside[0]), int(inside[-1])
    if not 1 <= sessions <= MOST_SESSIONS:
        raise NoSuchWindow(f"Look at 1 to {MOST_SESSIONS} sessions, not {sessions}.")
    return int(held[-sessions:][0]), int(held[-1])


def _read(view: View) -> Prints:
    """All prints up to a view's moment: of the sessions before its newest they are what they were a moment ago."""
    version, days = view.version, read_print_sessions(view.store)
    newest = view.date(version.last)
    if version.frame.played:
        # What came after its session is no print from the future: it is not known.
        days = [day for day in days if day <= newest]
    earlier, later = [day for day in days if day < newest], [day for day in days if day >= newest]
    before = _unpacked(
        version.arrays(
            "prints-before", lambda: _packed(_read_days(view, earlier)), of="before", beside=f"-{len(earlier)}"
        )
    )
    return _joined(before, _read_days(view, later), len(version.frame.names))


def _read_days(view: View, days: list[dt.date]) -> Prints:
    frame = view.version.frame
    bounds = (days[0], days[-1]) if days else (dt.date.min, dt.date.min)
    told = read_prints(view.store, (0, np.iinfo(np.int32).max), bounds)
    row = np.minimum(np.searchsorted(frame.ids, told["name_id"].to_numpy()), frame.ids.size - 1)
    day = told["session"].to_numpy().astype("datetime64[D]")
    session = np.searchsorted(frame.sessions, day)
    listed = frame.ids[row] == told["name_id"].to_numpy()
    moment = frame.state.as_of.astimezone(dt.UTC).replace(tzinfo=None)
    instant = day.astype("datetime64[ms]") + told["at"].to_numpy().astype("timedelta64[ms]")
    held = (session < frame.sessions.size) & (instant <= np.datetime64(moment, "ms"))
    sized, priced = told["shares"].to_numpy() > 0, numbers(told["price"]) > 0
    doubts = Doubts(
        int((~listed).sum()),
        int((listed & ~sized).sum()),
        int((listed & sized & ~priced).sum()),
        int((listed & sized & priced & ~held).sum()),
    )
    counted = (
        told.with_columns(pl.Series("row", row), pl.Series("place", session))
        .filter(pl.Series(listed & sized & priced & held))
        .sort("row", "place", "at", maintain_order=True)
    )
    name, session = (counted[column].to_numpy().astype(np.int64) for column in ("row", "place"))
    at, price, shares = counted["at"].to_numpy(), numbers(counted["price"]), counted["shares"].to_numpy()
    conditions = counted["conditions"].to_numpy().astype(np.uint8)
    plain = np.flatnonzero(conditions == 0)
    bursts, of_print = make_bursts(
        session[plain] * _DAY + at[plain] * _MILLISECOND, price[plain], shares[plain], name=name[plain]
    )
    burst = np.full(name.size, -1)
    burst[plain] = of_print
    first = np.full(bursts.first.size, -1)
    first[of_print[::-1]] = plain[::-1]
    whose, when = name[first], session[first]
    return Prints(
        sessions=np.unique(np.searchsorted(frame.sessions, np.array(days, dtype="datetime64[D]"))),
        begin=np.searchsorted(name, np.arange(len(frame.names) + 1)),
        name=name.astype(np.int32),
        session=session.astype(np.int16),
        at=at.astype(np.int32),
        price=price,
        shares=shares.astype(np.int32),
        conditions=conditions,
        burst=burst.astype(np.int32),
        bursts=MarketBursts(
            whose.astype(np.int32),
            when.astype(np.int16),
            bursts.price,
            bursts.notional,
            np.minimum(bursts.shares, np.iinfo(np.int32).max).astype(np.int32),
            np.minimum(bursts.prints, np.iinfo(np.int16).max).astype(np.int16),
        ),
        book=make_book(whose, bursts.price, when, bursts.notional, bursts.shares, len(frame.names)),
        doubts=doubts,
    )


def _joined(before: Prints, today: Prints, names: int) -> Prints:
    """Prints of some sessions and of those after them; no burst goes on overnight."""

    def both(one: Any, other: Any, order: IntArray) -> Any:
        return np.concatenate([one, other])[order]

    order = np.argsort(np.concatenate([before.name, today.name]), kind="stable")
    by_burst = np.argsort(np.concatenate([before.bursts.name, today.bursts.name]), kind="stable")
    place = np.empty(by_burst.size, np.int32)
    place[by_burst] = np.arange(by_burst.size)
    moved = np.where(today.burst >= 0, today.burst + before.bursts.name.size, -1)
    burst = both(before.burst, moved, order)
    bursts = MarketBursts(*(both(one, other, by_burst) for one, other in zip(before.bursts, today.bursts, strict=True)))
    plain = {
        key: both(getattr(before, key), getattr(today, key), order)
        for key in ("name", "session", "at", "price", "shares", "conditions")
    }
    return Prints(
        sessions=np.concatenate([before.sessions, today.sessions]),
        begin=np.searchsorted(plain["name"], np.arange(names + 1)),
        **plain,
        burst=np.where(burst >= 0, place[burst], -1).astype(np.int32) if place.size else burst,
        bursts=bursts,
        book=make_book(
            bursts.name.astype(np.int64),
            bursts.price,
            bursts.session.astype(np.int64),
            bursts.notional,
            bursts.shares.astype(np.int64),
            names,
        ),
        doubts=Doubts(*(one + other for one, other in zip(before.doubts, today.doubts, strict=True))),
    )
