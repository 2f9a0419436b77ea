"""Prices at which much was printed, and where price stands among them, for many names in one pass."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit

POSITIONS = ("above all", "within", "below all", "none that large", "none")
"""Where price stands among levels; the last two say why there are none."""
ABOVE, WITHIN, BELOW, NONE_LARGE, NONE = range(len(POSITIONS))
TICK = 0.01
_NO_TICK = np.iinfo(np.int32).min


class Levels(NamedTuple):
    """By price, shape (levels,): price, notional and shares added up, how many bursts."""

    price: FloatArray
    notional: FloatArray
    shares: IntArray
    bursts: IntArray


class Book(NamedTuple):
    """Bursts of many names, ordered by name and price, shape (bursts,): `tick` is the price in whole ticks. `begin` says where
    each name's begin, shape (names + 1,)."""

    begin: IntArray
    tick: NDArray[np.int32]
    session: NDArray[np.int16]
    notional: NDArray[np.float32]
    shares: NDArray[np.int32]


class Standing(NamedTuple):
    """By name, shape (names,): a place in `POSITIONS`; prices of the nearest level above and below, and of the one with the most
    notional, NaN without one, and its notional; how many levels there are; notional and shares of all bursts in the window."""

    position: NDArray[np.int8]
    above: FloatArray
    below: FloatArray
    largest: FloatArray
    largest_notional: FloatArray
    levels: IntArray
    notional: FloatArray
    shares: FloatArray


def make_levels(
    price: FloatArray, notional: FloatArray, shares: IntArray, *, least: float = 0.0, least_shares: float = 0.0
) -> Levels:
    """Bursts of one name added up by their price to the tick; those at least so large, by notional and by shares.

    Parameters
    ----------
    price, notional, shares
        Of each burst, shape (bursts,).
    least, least_shares
        What a level must come to: two prints of one price can be large enough together.
    """
    ticks, place = np.unique(np.round(np.asarray(price) / TICK).astype(np.int64), return_inverse=True)
    paid = np.bincount(place, notional, ticks.size).astype(np.float64)
    traded = np.bincount(place, shares, ticks.size).astype(np.int64)
    large = (paid >= least) & (traded >= least_shares)
    counts = np.bincount(place, minlength=ticks.size).astype(np.int64)
    return Levels(np.asarray(ticks[large] * TICK, np.float64), paid[large], traded[large], counts[large])


def print_position(price: float, level_prices: FloatArray) -> int:
    """Where a price stands among levels: a place in `POSITIONS`, `NONE` when there is no level. At a level it is within."""
    levels = np.asarray(level_prices, np.float64)
    if not levels.size:
        return NONE
    return ABOVE if price > levels.max() else BELOW if price < levels.min() else WITHIN


def make_book(
    name: IntArray, price: FloatArray, session: IntArray, notional: FloatArray, shares: IntArray, names: int
) -> Book:
    """Bursts of many names in the order in which they are asked for. Prices above 21 million do not fit.

    Parameters
    ----------
    name, price, session, notional, shares
        Of each burst, shape (bursts,), in any order; `name` from 0 up to `names`.
    names
        How many there are.
    """
    tick = np.round(price / TICK).astype(np.int32)
    order = np.lexsort((session, tick, name))
    begin = np.searchsorted(name[order], np.arange(names + 1)).astype(np.int64)
    return Book(
        begin,
        tick[order],
        session[order].astype(np.int16),
        notional[order].astype(np.float32),
        np.minimum(shares[order], np.iinfo(np.int32).max).astype(np.int32),
    )


def book_levels(
    book: Book, name: int, first: int, last: int, *, least: float = 0.0, least_shares: float = 0.0
) -> Levels:
    """A name's levels of some sessions as `make_levels` adds them up, read from a book; what is told of them is as in `stand`."""
    mine = slice(int(book.begin[name]), int(book.begin[name + 1]))
    inside = (book.session[mine] >= first) & (book.session[mine] <= last)
    tick = book.tick[mine][inside]
    if not tick.size:
        return Levels(np.empty(0), np.empty(0), np.empty(0, np.int64), np.empty(0, np.int64))
    ends = np.append(np.flatnonzero(tick[1:] != tick[:-1]) + 1, tick.size)
    begin = np.append(0, ends[:-1])
    paid = np.add.reduceat(book.notional[mine][inside].astype(np.float64), begin)
    traded = np.add.reduceat(book.shares[mine][inside].astype(np.int64), begin)
    large = (paid >= least) & (traded >= least_shares)
    return Levels(np.asarray(tick[begin][large] * TICK, np.float64), paid[large], traded[large], (ends - begin)[large])


def stand(
    book: Book, price: FloatArray, first: int, last: int, *, least: float = 0.0, least_shares: float = 0.0
) -> Standing:
    """Where each name stands among its levels of some sessions.

    Parameters
    ----------
    book
        All bursts.
    price
        Of each name, shape (names,); NaN stands nowhere: it is `NONE`.
    first, last
        The sessions of the window, both included.
    least, least_shares
        What a level must come to by notional and by shares.

    Returns
    -------
    `Standing`. A level is what was printed at one price to the tick over the window.
    """
    size = price.size
    above, below, largest = (np.full(size, np.nan) for _ in range(3))
    most, notional, traded = (np.zeros(size) for _ in range(3))
    position, levels = np.full(size, NONE, np.int8), np.zeros(size, np.int64)
    out = Standing(position, above, below, largest, most, levels, notional, traded)
    _stand(book, np.require(price, np.float64, ["C", "W"]), first, last, float(least), float(least_shares), out)
    return out


@njit(cache=True, nogil=True)
def _stand(book: Book, price: Any, first: int, last: int, least: float, least_shares: float, out: Standing) -> None:
    for name in range(price.size):
        end = book.begin[name + 1]
        now = price[name] / TICK
        above, below, largest, levels, found = _NO_TICK, _NO_TICK, _NO_TICK, 0, False
        most, paid, traded = 0.0, 0.0, 0.0
        i = book.begin[name]
        while i < end:
            tick, here, shares = book.tick[i], 0.0, 0.0
            while i < end and book.tick[i] == tick:
                if first <= book.session[i] <= last:
                    here += book.notional[i]
                    shares += book.shares[i]
                i += 1
            if shares <= 0.0:
                continue
            found = True
            paid += here
            traded += shares
            if here < least or shares < least_shares:
                continue
            levels += 1
            if here > most:
                most, largest = here, tick
            if tick > now + 1e-6:
                if above == _NO_TICK:
                    above = tick
            elif tick < now - 1e-6:
                below = tick
            else:
                above = below = tick
        out.notional[name], out.shares[name], out.levels[name] = paid, traded, levels
        out.largest_notional[name] = most
        if largest != _NO_TICK:
            out.largest[name] = largest * TICK
        if above != _NO_TICK:
            out.above[name] = above * TICK
        if below != _NO_TICK:
            out.below[name] = below * TICK
        if np.isnan(price[name]) or not found:
            out.position[name] = NONE
        elif levels == 0:
            out.position[name] = NONE_LARGE
        else:
            out.position[name] = BELOW if below == _NO_TICK else ABOVE if above == _NO_TICK else WITHIN
