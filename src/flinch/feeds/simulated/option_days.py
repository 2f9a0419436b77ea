"""Each session's option activity as a whole: volume and open interest by side, typical width, what is listed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from flinch.core.calendar import is_monthly
from flinch.core.volatility.chain import ChainQuotes, typical_width
from flinch.feeds.simulated.calendar import DateArray, listed_expirations
from flinch.feeds.simulated.chains import Chain, Expiries
from flinch.feeds.simulated.names import SIZES, Listing

Floats = NDArray[np.float64]


def make_option_days(
    names: list[Listing],
    groups: list[tuple[str, bool, NDArray[np.int64]]],
    sessions: DateArray,
    option_volume: NDArray[np.int64],
    iv30: Floats,
    expiries: Expiries,
    chain: Chain,
    spot: Floats,
    rng: np.random.Generator,
) -> dict[str, NDArray[np.generic]]:
    """Arrays names x sessions that end in what the newest chain itself adds up to.

    Open interest follows the volume of the session before: a share of it opens new positions, the rest closes old ones.
    """
    count, length = option_volume.shape
    owner = expiries.name[chain.expiry]

    def total(values: NDArray[np.int64], calls: bool) -> Floats:
        return np.bincount(owner, np.where(chain.is_call == calls, values, 0), count).astype(np.float64)

    call_today = total(chain.volume, True)
    share_today = np.clip(call_today / np.maximum(option_volume[:, -1], 1), 0.02, 0.98)
    state = np.zeros(count)
    lean = np.empty((count, length))
    for t in range(length):
        state = 0.7 * state + 0.3 * rng.normal(size=count)
        lean[:, t] = state
    share = 1 / (1 + np.exp(-(np.log(share_today / (1 - share_today))[:, None] + lean - lean[:, -1:])))
    call_volume = np.round(option_volume * share)
    call_volume[:, -1] = call_today
    put_volume = option_volume - call_volume

    def interest(volume: Floats, today: Floats) -> Floats:
        opening = np.clip(0.5 + 0.12 * rng.normal(size=volume.shape), 0.1, 0.9)
        usual = volume.mean(axis=1)
        level = 14.0 * usual
        out = np.empty(volume.shape)
        for t in range(length):
            out[:, t] = level
            level = np.maximum(level * (1 - 0.5 / 14.0) + opening[:, t] * volume[:, t], 1.0)
        return np.round(out * (today / np.maximum(out[:, -1], 1e-9))[:, None])

    call_interest = interest(call_volume, total(chain.open_interest, True))
    put_interest = interest(put_volume, total(chain.open_interest, False))

    half = np.array([SIZES[name.size].half_spread_vol for name in names])[:, None]
    usual_width = 200 * half / iv30 * np.exp(0.12 * rng.normal(size=iv30.shape))
    today_width = _width_today(count, expiries, chain, spot)
    ratio = np.where(np.isfinite(today_width), today_width / usual_width[:, -1], 1.0)

    expirations, weeklies = (np.zeros((count, length)) for _ in range(2))
    for t, day in enumerate(sessions):
        for size, weekly, members in groups:
            listed = listed_expirations(day, size, weekly)
            expirations[members, t] = listed.size
            weeklies[members, t] = np.count_nonzero(~is_monthly(listed))
    strikes_today = np.bincount(owner, minlength=count) / 2
    strikes = np.round(strikes_today[:, None] * expirations / expirations[:, -1:])
    return {
        "call_volume": call_volume,
        "put_volume": put_volume,
        "call_open_interest": call_interest,
        "put_open_interest": put_interest,
        "atm_width": np.round(usual_width * ratio[:, None], 3),
        "expirations": expirations,
        "weekly_expirations": weeklies,
        "strikes": strikes,
    }


def _width_today(count: int, expiries: Expiries, chain: Chain, spot: Floats) -> Floats:
    bid, ask = chain.bid.reshape(-1, 2), chain.ask.reshape(-1, 2)
    quotes = ChainQuotes(chain.expiry[::2], chain.strike[::2], bid[:, 0], ask[:, 0], bid[:, 1], ask[:, 1])
    return typical_width(quotes, expiries.name, spot=spot[expiries.name], years=expiries.years, count=count)
