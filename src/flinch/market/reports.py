"""Which reports come before an expiration ends, as far as their dates were known."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, IntArray
from flinch.store.market.facts import Report


def reports_inside(
    reports: Mapping[int, list[Report]],
    name: IntArray,
    today: NDArray[np.datetime64],
    expiration: NDArray[np.datetime64],
) -> BoolArray:
    """Whether the price reacts to each name's next report, as far as its date was known on a day, before an expiration ends.

    `reports` are each name's, in order; `name` (their key), `today` and `expiration` have shape (cases,).
    """
    out = np.zeros(name.size, dtype=bool)
    for row in np.unique(name).tolist():
        told = reports.get(row, [])
        if not told:
            continue
        mine = np.flatnonzero(name == row)
        day, known = (np.array([getattr(r, field) for r in told], "datetime64[D]") for field in ("session", "known_on"))
        late, early = (np.array([r.timing == timing for r in told]) for timing in ("after_close", "before_open"))
        now, end = today[mine, None], expiration[mine, None]
        ahead = (known <= now) & ((day > now) | ((day == now) & late))
        first = ahead.argmax(axis=1)
        chosen = (day[first] < end[:, 0]) | ((day[first] == end[:, 0]) & early[first])
        out[mine] = ahead.any(axis=1) & chosen
    return out
