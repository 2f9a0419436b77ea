"""From events to sessions: what was known on each of them, and nothing later."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from flinch.store.reading import Dates, Floats

Indices = NDArray[np.int64]


class Events:
    """Events of many names by the day they count from.

    `row` is the name's place 0 .. names - 1 and `day` the date, shape (events,), in any order; of two events of a name on one
    day the later in the order given counts.
    """

    def __init__(self, row: Indices, day: Dates, names: int) -> None:
        self.names = names
        self.order = np.lexsort((np.arange(row.size), day, row))
        self.row = row[self.order]
        self.start = np.searchsorted(self.row, np.arange(names + 1))
        self._key = self._combined(self.row, day[self.order])

    @staticmethod
    def _combined(row: Indices, day: Dates) -> Indices:
        key: Indices = row.astype(np.int64) * 1_000_000 + day.astype("datetime64[D]").astype(np.int64)
        return key

    def last(self, days: Dates) -> Indices:
        """Index of each name's last event on or before each day, shape (names, days); -1 where there is none yet."""
        place = self.counted(days) - 1
        return np.where(place >= self.start[:-1, None], place, -1)

    def next(self, days: Dates) -> Indices:
        """Index of each name's first event after each day, shape (names, days); -1 where there is none."""
        place = self.counted(days)
        return np.where(place < self.start[1:, None], place, -1)

    def counted(self, days: Dates) -> Indices:
        """Events of all names before each name and of its own on or before each day, shape (names, days)."""
        wanted = self._combined(np.arange(self.names)[:, None], days[None, :])
        found: Indices = np.searchsorted(self._key, wanted, side="right")
        return found

    def taken(self, values: NDArray[np.generic], place: Indices) -> Floats:
        """Values (in the order given to the constructor) at indices that `last` or `next` returned; NaN at -1."""
        ordered = values[self.order].astype(np.float64)
        if not ordered.size:
            return np.full(place.shape, np.nan)
        return np.where(place >= 0, ordered[np.maximum(place, 0)], np.nan)
