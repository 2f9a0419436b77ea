"""Heikin-Ashi candles, runs of flat ones, and gaps that price has not come back to."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.rolling import lag


class Gaps(NamedTuple):
    """Gaps still open, oldest first, shape (gaps,): session in which each opened, the price at which it would be filled, how
    far price has come back towards that, and whether it lies above the market."""

    session: IntArray
    fill: FloatArray
    reached: FloatArray
    above: BoolArray


class Candles(NamedTuple):
    """Open, high, low and close, shape (..., sessions)."""

    open: FloatArray
    high: FloatArray
    low: FloatArray
    close: FloatArray


@njit(cache=True, nogil=True)
def _averaged_open(opened: Any, close: Any, middle: Any, out: Any) -> None:
    rows, sessions = opened.shape
    for i in range(rows):
        level = np.nan
        for t in range(sessions):
            if not np.isfinite(middle[i, t]):
                level = np.nan
            elif np.isfinite(level):
                level = 0.5 * (level + middle[i, t - 1])
            else:
                level = 0.5 * (opened[i, t] + close[i, t])
            out[i, t] = level


@njit(cache=True, nogil=True)
def _runs(flat: Any, out: Any) -> None:
    rows, sessions = flat.shape
    for i in range(rows):
        run = 0
        for t in range(sessions):
            run = run + 1 if flat[i, t] == 1 else 0
            out[i, t] = run if flat[i, t] >= 0 else np.nan


@njit(cache=True, nogil=True)
def _last_gap(high: Any, low: Any, above: bool, window: int, out: Any) -> None:
    rows, sessions = high.shape
    for i in range(rows):
        for t in range(sessions):
            out[i, t] = np.nan
            extreme = -np.inf if above else np.inf
            for k in range(t, max(0, t - window), -1):
                if not (np.isfinite(high[i, k]) and np.isfinite(low[i, k])):
                    continue
                # A comparison with a missing session before is false, and opens no gap.
                if above:
                    extreme = max(extreme, high[i, k])
                    if extreme < low[i, k - 1]:
                        out[i, t] = low[i, k - 1]
                        break
                else:
                    extreme = min(extreme, low[i, k])
                    if extreme > high[i, k - 1]:
                        out[i, t] = high[i, k - 1]
                        break


def heikin_ashi(open: FloatArray, high: FloatArray, low: FloatArray, close: FloatArray) -> Candles:
    """Averaged candles: close is the mean of the four prices, open the middle of the previous averaged candle.

    Shape (..., sessions). The first candle, and the first after a missing session, opens at the middle of its own body.
    """
    shape = np.shape(close)
    middle = (open + high + low + close) / 4
    opened = np.empty((int(np.prod(shape[:-1])), shape[-1]))
    flat = [np.ascontiguousarray(a, dtype=np.float64).reshape(opened.shape) for a in (open, close, middle)]
    _averaged_open(flat[0], flat[1], flat[2], opened)
    begins = opened.reshape(shape)
    return Candles(
        begins, np.maximum(high, np.maximum(begins, middle)), np.minimum(low, np.minimum(begins, middle)), middle
    )


def _flat_run(is_flat: Any, known: Any) -> FloatArray:
    state = np.where(known, is_flat, -1).astype(np.int8)
    rows = np.ascontiguousarray(state.reshape(-1, state.shape[-1]))
    out = np.empty(rows.shape)
    _runs(rows, out)
    return out.reshape(state.shape)


def flat_bottom_run(open: FloatArray, high: FloatArray, low: FloatArray, close: FloatArray) -> FloatArray:
    """How many averaged candles in a row, up to each session, rose without a lower shadow; NaN where one is missing."""
    candle = heikin_ashi(open, high, low, close)
    return _flat_run((candle.close > candle.open) & (candle.low >= candle.open), np.isfinite(candle.close))


def flat_top_run(open: FloatArray, high: FloatArray, low: FloatArray, close: FloatArray) -> FloatArray:
    """How many averaged candles in a row, up to each session, fell without an upper shadow; NaN where one is missing."""
    candle = heikin_ashi(open, high, low, close)
    return _flat_run((candle.close < candle.open) & (candle.high <= candle.open), np.isfinite(candle.close))


def unfilled_gap(high: FloatArray, low: FloatArray, *, above: bool, window: int = 126) -> FloatArray:
    """Price at which the newest gap of the last `window` sessions would be filled; NaN where none is open.

    A gap below the market opens when a session's low is above the previous session's high, one `above` the market when its
    high is below the previous low. It is open while no session since, the gap's own included, has come back to that price.
    """
    shape = np.shape(high)
    flat = [np.ascontiguousarray(a, dtype=np.float64).reshape(-1, shape[-1]) for a in (high, low)]
    out = np.empty(flat[0].shape)
    _last_gap(flat[0], flat[1], above, window, out)
    return out.reshape(shape)


def open_gaps(high: FloatArray, low: FloatArray, *, window: int = 126) -> Gaps:
    """All gaps of the last `window` sessions that are open at the last one, as `unfilled_gap` finds the newest of either side.

    `high` and `low` have shape (sessions,); sessions without them open and fill none.
    """
    seen = np.isfinite(high) & np.isfinite(low)
    since_low = np.minimum.accumulate(np.where(seen, low, np.inf)[::-1])[::-1]
    since_high = np.maximum.accumulate(np.where(seen, high, -np.inf)[::-1])[::-1]
    seen[: max(1, seen.size - window)] = False
    parts = []
    for above, fill, reached, is_open in (
        (False, lag(high, 1), since_low, since_low > lag(high, 1)),
        (True, lag(low, 1), since_high, since_high < lag(low, 1)),
    ):
        at = np.flatnonzero(seen & is_open)
        parts.append((at, fill[at], reached[at], np.full(at.size, above)))
    at, fill, reached, side = (np.concatenate(columns) for columns in zip(*parts, strict=True))
    order = np.argsort(at, kind="stable")
    return Gaps(at[order], fill[order], reached[order], side[order])
