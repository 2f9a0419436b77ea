"""Past expected moves kept score of: how far price went against what was priced, and who was right."""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.moves.cycles import band_position

PROMISED = 0.6827
"""The share of a normal distribution within one standard deviation."""
MEAN_SIZE = math.sqrt(2 / math.pi)
"""The mean size of a normal move as a share of its standard deviation."""

Verdict = Literal["overpriced", "underpriced", "within chance"]


class Outcomes(NamedTuple):
    """What came of each cycle, shape (..., cycles): all NaN where the anchor, the half-width or the last close is missing.

    `priced` (the half-width) and `moved` (last close against the anchor) are decimals of the anchor; `position` is the move and
    `worst` the furthest excursion of highs and lows, both in priced moves with their sign.
    """

    priced: FloatArray
    moved: FloatArray
    position: FloatArray
    worst: FloatArray

    @property
    def known(self) -> BoolArray:
        found: BoolArray = np.isfinite(self.position)
        return found

    @property
    def inside(self) -> BoolArray:
        """Ended no further from the anchor than was priced."""
        found: BoolArray = np.abs(self.position) <= 1
        return found


def cycle_outcomes(
    high: FloatArray,
    low: FloatArray,
    close: FloatArray,
    anchor: FloatArray,
    half_width: FloatArray,
    starts: IntArray,
    ends: IntArray,
) -> Outcomes:
    """Outcomes of cycles that are over.

    Parameters
    ----------
    high, low, close
        Bars, shape (..., sessions).
    anchor, half_width
        The band at each session as from `cycle_bands`, same shape; read at the cycles' ends.
    starts, ends
        Session of each cycle's anchor and its last one, shape (cycles,): in order, each beginning where the one before ended.

    Returns
    -------
    `Outcomes`. Of two excursions of one size the upper counts; a session without a high or low takes no part in them.

    Raises
    ------
    ValueError
        When a cycle does not begin where the one before it ended.
    """
    if not starts.size:
        nothing = np.empty((*close.shape[:-1], 0))
        return Outcomes(nothing, nothing, nothing, nothing)
    if np.any(starts[1:] != ends[:-1]):
        raise ValueError("each cycle must begin where the one before it ended")
    begin, over = anchor[..., ends], ends[-1] + 1
    position = band_position(close[..., ends], begin, half_width[..., ends])
    known = np.isfinite(position)
    highest = np.fmax.reduceat(high[..., :over], starts + 1, axis=-1)
    lowest = np.fmin.reduceat(low[..., :over], starts + 1, axis=-1)
    up, down = (band_position(price, begin, half_width[..., ends]) for price in (highest, lowest))
    found = (
        half_width[..., ends] / begin,
        close[..., ends] / begin - 1,
        position,
        np.where(np.nan_to_num(up, nan=-np.inf) >= -np.nan_to_num(down, nan=np.inf), up, down),
    )
    return Outcomes(*[np.where(known, values, np.nan) for values in found])


class ReportMoves(NamedTuple):
    """Of each report, shape (reports,), decimals: the move that was priced, the one that came, the size of that over the priced
    one, and whether sellers of the priced one won; NaN and False where something is missing."""

    priced: FloatArray
    moved: FloatArray
    ratio: FloatArray
    sellers: BoolArray


def report_moves(close: FloatArray, priced: FloatArray, reaction: IntArray) -> ReportMoves:
    """What options priced for past reports at the last close before, and what price then did.

    Parameters
    ----------
    close, priced
        One name's closes and the move priced for its next report (one standard deviation, a decimal), shape (sessions,); NaN
        where missing.
    reaction
        Index of the session that reacted to each report, at least 1, shape (reports,).

    Returns
    -------
    `ReportMoves`; without a ratio where nothing was priced.
    """
    before = priced[reaction - 1]
    with np.errstate(invalid="ignore", divide="ignore"):
        moved = close[reaction] / close[reaction - 1] - 1
        ratio = np.where(before > 0, np.abs(moved) / before, np.nan)
    return ReportMoves(before, moved, ratio, sellers_won(moved, before))


def ledger_verdict(inside: int, known: int) -> Verdict | None:
    """Whether moves were priced too large or too small: the share inside against `PROMISED`, beyond two of its own standard
    errors under it. None without a known cycle."""
    if not known:
        return None
    off, slack = inside / known - PROMISED, 2 * math.sqrt(PROMISED * (1 - PROMISED) / known)
    return "overpriced" if off > slack else "underpriced" if off < -slack else "within chance"


def sellers_won(moved: ArrayLike, priced: ArrayLike) -> BoolArray:
    """Whether selling a priced move (one standard deviation) paid: the move was smaller than the mean size of a normal one. Any
    one shape, both in the same unit, False where one is missing."""
    found: BoolArray = np.abs(np.asarray(moved)) < MEAN_SIZE * np.asarray(priced)
    return found
