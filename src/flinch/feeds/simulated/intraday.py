"""One-minute bars of the last sessions, drawn inside the quarter hours that the prices were walked in."""

from __future__ import annotations

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import DateArray, session_opens
from flinch.feeds.simulated.extended import ExtendedHours
from flinch.feeds.simulated.names import Listing
from flinch.feeds.simulated.paths import STEPS

Floats = NDArray[np.float64]
_MINUTES = 15
MORNING, EVENING = (-330, -1), (391, 629)
"""Minutes from the open in which there is trading before the open and after the close."""


def make_minute_bars(
    names: list[Listing],
    steps: Floats,
    sessions: DateArray,
    volume: Floats,
    traded: NDArray[np.bool_],
    extended: ExtendedHours,
    until: NDArray[np.int64],
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Rows name, at (UTC), open, high, low, close, volume; regular hours, and the mornings and evenings that traded.

    `steps` has shape (4, names, days, quarter hours): start, highest, lowest, end. Of each day's bars the first opens, one
    reaches the day's high, one its low and the last closes where the daily bar does, and the volumes add up to its volume.
    `until`: minutes of the newest session in which each name trades, shape (names,).
    """
    days, end = steps.shape[2], steps[3]
    regular = regular_bars(steps, sessions, volume, traded, until, rng)
    opens = session_opens(sessions[-days:])
    previous = np.concatenate([end[:, :1, 0] * np.nan, end[:, :-1, -1]], axis=1)
    recent = ExtendedHours(*[values[:, -days:] for values in extended])
    open_days = traded[:, -days:]
    extremes = recent.pre_high, recent.pre_low
    morning = thin_bars(MORNING, previous, recent.pre_last, recent.pre_volume, open_days, opens, names, rng, extremes)
    evening = thin_bars(
        EVENING, end[:, :, -1], recent.post_last, recent.post_volume, open_days, opens, names, rng, None
    )
    return pl.concat([regular, morning, evening]).sort("name", "at")


def regular_bars(
    steps: Floats,
    sessions: DateArray,
    volume: Floats,
    traded: NDArray[np.bool_],
    until: NDArray[np.int64],
    rng: np.random.Generator,
    first: int = 0,
) -> pl.DataFrame:
    """Those of regular hours, as `make_minute_bars` takes and gives them; where steps are not of the whole session `first` is the
    minute that they begin with."""
    start, top, bottom, end = steps
    count, days, quarters = start.shape
    noise = rng.normal(size=(count, days, quarters, _MINUTES))
    walk = np.cumsum(noise, axis=3)
    place = np.arange(1, _MINUTES + 1) / _MINUTES
    bridge = walk - walk[..., -1:] * place
    spread = (top - bottom)[..., None] / (1.6 * np.sqrt(_MINUTES))
    close = start[..., None] + (end - start)[..., None] * place + spread * bridge
    close = np.clip(close, bottom[..., None], top[..., None])
    opened = np.concatenate([start[..., None], close[..., :-1]], axis=3)
    reach = np.abs(rng.normal(size=(2, *close.shape))) * spread * 0.4
    high = np.minimum(np.maximum(opened, close) + reach[0], top[..., None])
    low = np.maximum(np.minimum(opened, close) - reach[1], bottom[..., None])
    np.put_along_axis(high, high.argmax(axis=3)[..., None], top[..., None], axis=3)
    np.put_along_axis(low, low.argmin(axis=3)[..., None], bottom[..., None], axis=3)

    minute = first + np.arange(quarters * _MINUTES)
    busy = 1 + 1.8 * ((minute - 195) / 195) ** 2
    weight = np.exp(0.7 * rng.normal(size=(count, days, minute.size))) * busy
    open_until = np.full((count, days), STEPS * _MINUTES)
    open_until[:, -1] = until
    kept = (minute < open_until[..., None]) & traded[:, -days:, None]
    weight = np.where(kept, weight, 0.0)
    shares = np.cumsum(weight, axis=2) / np.maximum(weight.sum(axis=2, keepdims=True), 1e-12)
    whole = np.round(shares * np.nan_to_num(volume[:, -days:, None]))
    per_minute = np.diff(whole, axis=2, prepend=0.0)

    opens = session_opens(sessions[-days:])
    name, day, at = np.nonzero(kept)

    def taken(values: Floats) -> Floats:
        return np.round(values.reshape(count, days, -1)[name, day, at], 2)

    return pl.DataFrame(
        {
            "name": name,
            "at": (opens[day] + minute[at].astype("timedelta64[m]")).astype("datetime64[ms]"),
            "open": taken(opened),
            "high": taken(high),
            "low": taken(low),
            "close": taken(close),
            "volume": per_minute[name, day, at],
        }
    )


def minute_closes(bars: pl.DataFrame, sessions: DateArray, close: Floats) -> dict[int, Floats]:
    """By session (an index counted as in `close`, whose newest are `sessions`), the price of each name at the end of each minute
    of regular hours, names x minutes: that of the last bar by then, before the first one the close of the session before."""
    count, total = close.shape
    minutes, out = STEPS * _MINUTES, {}
    at = bars["at"].to_numpy().astype("datetime64[m]")
    for place, opened in zip(range(total - sessions.size, total), session_opens(sessions), strict=True):
        minute = (at - opened).astype(np.int64)
        here = (minute >= 0) & (minute < minutes)
        prices = np.full((count, minutes + 1), np.nan)
        prices[:, 0] = close[:, place - 1]
        prices[bars["name"].to_numpy()[here], minute[here] + 1] = bars["close"].to_numpy()[here]
        seen = np.maximum.accumulate(np.where(np.isfinite(prices), np.arange(minutes + 1), 0), axis=1)
        out[place] = np.take_along_axis(prices, seen, axis=1)[:, 1:]
    return out


def thin_bars(
    hours: tuple[int, int],
    start: Floats,
    last: Floats,
    volume: Floats,
    traded: NDArray[np.bool_],
    opens: NDArray[np.datetime64],
    names: list[Listing],
    rng: np.random.Generator,
    extremes: tuple[Floats, Floats] | None,
) -> pl.DataFrame:
    """A few bars outside regular hours: on the way from the last close to the last price, within what was seen."""
    most = 16
    count, days = last.shape
    minute = np.sort(rng.integers(hours[0], hours[1], (count, days, most)), axis=2)
    busy = np.array([{"large": most, "medium": 8, "small": 4}[name.size] for name in names])[:, None, None]
    # The newest of a name's bars come last in the row, each minute once.
    kept = np.arange(most) >= most - busy
    kept = kept & np.concatenate([minute[..., 1:] != minute[..., :-1], np.ones((count, days, 1), dtype=bool)], axis=2)
    kept &= (np.isfinite(last) & np.isfinite(start) & traded)[..., None]
    top, bottom = extremes or (np.fmax(start, last), np.fmin(start, last))
    share = np.sort(rng.random((count, days, most)), axis=2)
    share[..., -1] = 1.0
    price = start[..., None] + (last - start)[..., None] * share
    price = np.clip(price, bottom[..., None], top[..., None])
    before = np.concatenate([price[..., :1], price[..., :-1]], axis=2)
    peak, trough = np.maximum(price, before), np.minimum(price, before)
    if extremes:
        peak[..., -1], trough[..., -1] = np.fmax(peak[..., -1], top), np.fmin(trough[..., -1], bottom)
    weight = np.where(kept, np.exp(rng.normal(size=kept.shape)), 0.0)
    shares = np.cumsum(weight, axis=2) / np.maximum(weight.sum(axis=2, keepdims=True), 1e-12)
    part = np.diff(np.round(shares * np.nan_to_num(volume)[..., None]), axis=2, prepend=0.0)
    name, day, at = np.nonzero(kept)
    place = (name, day, at)
    return pl.DataFrame(
        {
            "name": name,
            "at": (opens[day] + minute[place].astype("timedelta64[m]")).astype("datetime64[ms]"),
            "open": np.round(before[place], 2),
            "high": np.round(peak[place], 2),
            "low": np.round(trough[place], 2),
            "close": np.round(price[place], 2),
            "volume": part[place],
        }
    )
