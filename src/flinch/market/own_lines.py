"""Users' own lines as series that rules read.

A series of an owner's lines carries them in its key, so that what is computed of one owner is never taken for another's, and
a text that was read with it can be evaluated whenever and wherever.
"""

from __future__ import annotations

import datetime as dt
import hashlib
from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.technicals import nearest_lines
from flinch.market.frame import MarketFrame

SIDES = ("line_above_price", "line_below_price")
"""Metrics that own lines make."""


class LineAt(NamedTuple):
    """A line's symbol, price, and the session in which it was put there."""

    symbol: str
    price: float
    since: dt.date


class LineSeries(str):
    """The key of a series of somebody's lines; equal for equal lines."""

    lines: tuple[LineAt, ...]
    side: str

    def __new__(cls, side: str, lines: tuple[LineAt, ...], mark: str) -> LineSeries:
        """A key of one side of these lines; `mark` stands for all of them."""
        made = super().__new__(cls, f"{side}@{mark}")
        made.side, made.lines = side, lines
        return made


def line_series(lines: tuple[LineAt, ...]) -> dict[str, str]:
    """The series of some lines, by the metric that they stand for; none without lines."""
    if not lines:
        return {}
    mark = hashlib.sha256(repr(lines).encode()).hexdigest()[:32]
    return {side: LineSeries(side, lines, mark) for side in SIDES}


def line_prices(frame: MarketFrame, lines: tuple[LineAt, ...]) -> dict[str, FloatArray]:
    """Nearest lines of all names and sessions by metric, names x sessions; lines of names that are not listed are left out."""
    there = [line for line in lines if line.symbol in frame.index]
    since = np.array([line.since for line in there], dtype="datetime64[D]")
    above, below = nearest_lines(
        frame.close,
        np.array([frame.index[line.symbol] for line in there], np.int64),
        np.array([line.price for line in there], np.float64),
        np.searchsorted(frame.sessions, since),
    )
    return dict(zip(SIDES, (above, below), strict=True))
