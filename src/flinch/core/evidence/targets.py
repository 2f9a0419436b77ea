"""Whether a stated price was touched in time."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.pricing.normal import normal_cdfs


class Reach(NamedTuple):
    """Per name and session: 1 where the target was touched in time, 0 where not, NaN where it is not known (yet).

    `priced` is the chance that options gave it: that a driftless walk with the one-day expected move touches it.
    """

    touched: FloatArray
    priced: FloatArray


def extremes_ahead(values: FloatArray, end: FloatArray, *, highest: bool) -> FloatArray:
    """Highest or lowest of the sessions after each, up to and with `end`; shape (names, sessions).

    `end` is per session, shape (sessions,), the index of the last one that counts: it may lie beyond the sessions held, and must
    not fall as sessions pass. Missing sessions are left out; NaN where none is there.
    """
    sessions = values.shape[1]
    choose = np.fmax if highest else np.fmin
    out = np.full(values.shape, np.nan)
    ends = np.where(np.isfinite(end), end, -1).astype(np.int64)
    for last in np.unique(ends[ends >= 0]):
        own = np.flatnonzero(ends == last)
        first, upto = int(own[0]), min(int(last), sessions - 1)
        if upto <= first:
            continue
        ahead = choose.accumulate(values[:, upto:first:-1], axis=1)[:, ::-1]
        inside = own[own < upto]
        out[:, inside] = ahead[:, inside - first]
    return out


def reach_of(
    high: FloatArray,
    low: FloatArray,
    close: FloatArray,
    target: FloatArray,
    end: FloatArray,
    one_day: FloatArray,
) -> Reach:
    """Whether price touched a target after each session, by the end of the session `end`.

    Parameters
    ----------
    high, low, close
        Daily bars, shape (names, sessions).
    target
        Price to touch, same shape; above the close it is a rise, below it a fall. NaN where there is none.
    end
        Index of the last session that counts, shape (sessions,), not falling.
    one_day
        One-day expected move at each session as a decimal, shape of `close`.

    Returns
    -------
    `Reach`. A target that is not touched within the sessions held, with its end still ahead, is not known.

    Notes
    -----
    Chance of touching: 2 (1 - N(|ln(target / close)| / (one_day sqrt(sessions left)))), the reflection principle.
    """
    top, bottom = extremes_ahead(high, end, highest=True), extremes_ahead(low, end, highest=False)
    left = end - np.arange(close.shape[1])
    with np.errstate(invalid="ignore", divide="ignore"):
        rise = target >= close
        touched = np.where(rise, top >= target, bottom <= target)
        known = np.isfinite(target) & np.isfinite(close) & np.isfinite(top) & (left > 0)[None, :]
        over = end < close.shape[1]
        result = np.where(known & (touched | over[None, :]), touched.astype(np.float64), np.nan)
        distance = np.abs(np.log(target / close)) / (one_day * np.sqrt(np.where(left > 0, left, np.nan)))
        priced = 2 * normal_cdfs(-distance)
    return Reach(result, np.where(np.isfinite(result), priced, np.nan))
