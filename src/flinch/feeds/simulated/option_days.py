"""Each session's quoted width at the money and number of listed expirations."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from flinch.core.calendar import is_monthly
from flinch.core.volatility.chain import ChainQuotes, typical_width
from flinch.feeds.simulated.calendar import DateArray, all_sessions, listed_expirations
from flinch.feeds.simulated.chains import Snapshot
from flinch.feeds.simulated.names import SIZES, Listing

Floats = NDArray[np.float64]


def make_option_days(
    names: list[Listing],
    groups: list[tuple[str, bool, NDArray[np.int64]]],
    sessions: DateArray,
    iv30: Floats,
    newest: Snapshot,
    rng: np.random.Generator,
) -> dict[str, Floats]:
    """Arrays names x sessions; the width ends in that of the newest chain."""
    half = np.array([SIZES[name.size].half_spread_vol for name in names])[:, None]
    usual_width = 200 * half / iv30 * np.exp(0.12 * rng.normal(size=iv30.shape))
    today_width = _width(len(names), newest)
    ratio = np.where(np.isfinite(today_width), today_width / usual_width[:, -1], 1.0)
    expirations, weeklies = np.zeros(iv30.shape), np.zeros(iv30.shape)
    exchange = all_sessions()
    for t, day in enumerate(sessions):
        for size, weekly, members in groups:
            listed = listed_expirations(day, size, weekly)
            expirations[members, t] = listed.size
            weeklies[members, t] = np.count_nonzero(~is_monthly(listed, exchange))
    return {
        "atm_width": np.round(usual_width * ratio[:, None], 3),
        "expirations": expirations,
        "weekly_expirations": weeklies,
    }


def _width(count: int, newest: Snapshot) -> Floats:
    chain, expiries = newest.chain, newest.expiries
    bid, ask = chain.bid.reshape(-1, 2), chain.ask.reshape(-1, 2)
    quotes = ChainQuotes(chain.expiry[::2], chain.strike[::2], bid[:, 0], ask[:, 0], bid[:, 1], ask[:, 1])
    spot = newest.spot[expiries.name]
    return typical_width(quotes, expiries.name, spot=spot, years=expiries.years, count=count)
