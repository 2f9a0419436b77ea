"""The chance that options gave to touching prices in the past, from the surfaces that were kept."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.evidence import span_smiles, touch_chance
from flinch.core.interrupt import checkpoint
from flinch.market.view import View
from flinch.store.market.surfaces import read_surfaces


def priced_touches(
    view: View,
    prices: list[FloatArray],
    end: FloatArray,
    wanted: BoolArray,
    tell: Callable[[float], None] = lambda share: None,
) -> list[FloatArray]:
    """For each of several prices a name and session, names x sessions, the chance of a touch by the end of the session `end`.

    `end` is an index into the exchange's calendar, shape (sessions,). Only where it is `wanted`, names x sessions, it is read;
    NaN elsewhere, and where the name had no smile then. `tell` gets the share that is done.
    """
    frame, calendar = view.frame, view.calendar
    found = [np.full(price.shape, np.nan) for price in prices]
    sessions = np.flatnonzero(wanted.any(axis=0)).tolist()
    for place, session in enumerate(sessions):
        checkpoint()
        tell(place / len(sessions))
        rows = np.flatnonzero(wanted[:, session])
        if not np.isfinite(end[session]) or int(end[session]) >= calendar.size:
            continue
        name_id, surfaces = read_surfaces(view.store, view.date(session), frame.ids[rows])
        span = float((calendar[int(end[session])] - calendar[session]).astype(np.int64)) / 365
        smile = span_smiles(
            name_id,
            surfaces["days"] / 365,
            surfaces["svi"].astype(np.float64),
            frame.ids[rows],
            np.full(rows.size, span),
        )
        for out, price in zip(found, prices, strict=True):
            out[rows, session] = touch_chance(price[rows, session] / frame.close[rows, session], smile)
    return found
