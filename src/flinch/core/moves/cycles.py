"""Weekly and monthly expiration cycles, and the band that options priced at the start of each."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.calendar import third_friday


class Cycles(NamedTuple):
    """Per session, shape (sessions,): index of the session whose close began its cycle, and of the one whose close ends it.

    `anchor` is -1 before the first cycle that begins within the calendar; a session that ends a cycle still belongs to it.
    """

    anchor: IntArray
    end: IntArray


class CycleBands(NamedTuple):
    """Per name and session: the anchor price, the half-width at the cycle's end, and how far the cycle has come.

    `anchor` and `half_width` are in price units, shape (names, sessions), NaN where the anchor session has no close or no
    volatility; `elapsed` and `length` are sessions, shape (sessions,), NaN before the first cycle.
    """

    anchor: FloatArray
    half_width: FloatArray
    elapsed: FloatArray
    length: FloatArray


def cycle_ends(calendar: NDArray[np.datetime64], *, monthly: bool) -> BoolArray:
    """Whether a cycle ends with each session: the last one on or before a Friday, or a third Friday.

    `calendar` has shape (sessions,), in order and without gaps; its last session counts as the end of its week.
    """
    day = calendar.astype("datetime64[D]").astype(np.int64)
    friday = day + 4 - (day + 3) % 7
    last = np.append(friday[1:] != friday[:-1], True)
    return last & third_friday(friday.astype("datetime64[D]")) if monthly else last


def cycles(ends: BoolArray) -> Cycles:
    """The cycle of each session; the end is -1 after the last one that ends within the calendar."""
    places = np.flatnonzero(ends)
    count = np.searchsorted(places, np.arange(ends.size))
    padded = np.concatenate([[-1], places, [-1]])
    return Cycles(padded[count], padded[count + 1])


def running_ends(
    calendar: NDArray[np.datetime64], session: np.datetime64, *, over: bool
) -> tuple[np.datetime64, np.datetime64]:
    """The sessions that end the running week and month; once `session` is over, at a cycle's end the next ones count.

    `calendar` reaches at least to the end of the month after `session`, which is in it.
    """
    place = int(np.searchsorted(calendar, session)) + over
    week, month = (calendar[cycles(cycle_ends(calendar, monthly=monthly)).end[place]] for monthly in (False, True))
    return week, month


def cycle_bands(close: FloatArray, vol: FloatArray, calendar: NDArray[np.datetime64], *, monthly: bool) -> CycleBands:
    """Anchor and half-width of the cycle that each session belongs to.

    Parameters
    ----------
    close
        Shape (names, sessions), price units.
    vol
        Same shape, annualised decimal: at each close the volatility of the expiration that ends the cycle which begins there, or
        runs there; it is read at the anchors.
    calendar
        Those sessions and the ones ahead, at least to the end of the current cycle.
    monthly
        From third Friday to third Friday, else from week to week.

    Returns
    -------
    `CycleBands` for the sessions of `close`.

    Notes
    -----
    Half-width = anchor price * volatility * sqrt(calendar days of the cycle / 365), one standard deviation at its end.
    """
    sessions = close.shape[1]
    cycle = cycles(cycle_ends(calendar, monthly=monthly))
    anchor, end = cycle.anchor[:sessions], cycle.end[:sessions]
    known = (anchor >= 0) & (end >= 0)
    day = calendar.astype("datetime64[D]").astype(np.int64)
    years = np.where(known, day[end] - day[anchor], np.nan) / 365
    price = np.where(known, close[:, anchor], np.nan)
    half = price * np.where(known, vol[:, anchor], np.nan) * np.sqrt(years)
    place = np.arange(sessions)
    elapsed = np.where(known, place - anchor, np.nan)
    return CycleBands(price, half, elapsed, np.where(known, end - anchor, np.nan))


def band_position(price: ArrayLike, anchor: ArrayLike, half_width: ArrayLike) -> Any:
    """(price - anchor) / half_width: beyond 1 or -1 price has left the band. NaN where an argument is, or without width."""
    width = np.asarray(half_width, dtype=np.float64)
    return (np.asarray(price, dtype=np.float64) - np.asarray(anchor)) / np.where(width > 0, width, np.nan)


def fan(half_width: ArrayLike, elapsed: ArrayLike, length: ArrayLike) -> Any:
    """Half-width part-way: half_width * sqrt(elapsed / length), in sessions; zero at the anchor."""
    return np.asarray(half_width) * np.sqrt(np.asarray(elapsed, dtype=np.float64) / np.asarray(length))
