"""Whether a price band that was reached held or broke."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit

OUTCOMES = ("open", "held", "broke")
OPEN, HELD, BROKE = range(len(OUTCOMES))
HELD_MOVES = 0.25
"""A band held when price closes back so many one-day expected moves away from it."""


class Bars(NamedTuple):
    """Bars of one name in order of time, shape (bars,)."""

    high: FloatArray
    low: FloatArray
    close: FloatArray


class Bands(NamedTuple):
    """Price bands, shape (bands,): lowest and highest price, distance that counts as held (price units), the bars in which a test
    may begin (`first` up to `last`, which is not included). In ascending order of `first`."""

    low: FloatArray
    high: FloatArray
    away: FloatArray
    first: IntArray
    last: IntArray


class BandTests(NamedTuple):
    """Shape (tests,), in the order of the bands and of time: band, bars in which it began and was decided (the last one while
    it is open), +1 when price came from above and -1 from below, and a place in `OUTCOMES`."""

    band: IntArray
    begin: IntArray
    end: IntArray
    came_from: NDArray[np.int8]
    outcome: NDArray[np.int8]


def band_tests(bars: Bars, bands: Bands) -> BandTests:
    """Find when price reached a band, and what came of it.

    Parameters
    ----------
    bars
        Of one name. A bar that is missing has NaN and is passed over.
    bands
        What is tested; what makes a band must be known before its `first` bar.

    Returns
    -------
    `BandTests`. A test begins with a bar whose range touches the band, after at least one bar wholly on one side of it. It
    *broke* with the second close in a row beyond the band, and *held* with a close back on the side that price came from, at
    least `away` from the band, before that. A band is tested again after another bar wholly on one side.
    """
    columns = [np.require(column, np.float64, ["C", "W"]) for column in (*bars, *bands[:3])]
    spans = [np.require(column, np.int64, ["C", "W"]) for column in bands[3:]]
    most = int(np.maximum(spans[1] - spans[0], 0).sum()) if spans[0].size else 0
    band, begin, end = (np.empty(most, np.int64) for _ in range(3))
    came_from, outcome = np.empty(most, np.int8), np.empty(most, np.int8)
    count = _test(Bars(*columns[:3]), Bands(*columns[3:], *spans), BandTests(band, begin, end, came_from, outcome))
    band, begin, end = (column[:count].copy() for column in (band, begin, end))
    return BandTests(band, begin, end, came_from[:count].copy(), outcome[:count].copy())


@njit(cache=True, nogil=True)
def _test(bars: Bars, bands: Bands, out: BandTests) -> int:
    count = 0
    for band in range(bands.low.size):
        low, high, away = bands.low[band], bands.high[band], bands.away[band]
        side, testing, beyond = 0, False, 0
        # The bar before the first one may stand wholly on one side already.
        i = max(bands.first[band] - 1, 0)
        while i < bars.close.size and (testing or i < bands.last[band]):
            top, bottom, close = bars.high[i], bars.low[i], bars.close[i]
            if np.isnan(top) or np.isnan(bottom) or np.isnan(close):
                i += 1
                continue
            touches = bottom <= high and top >= low
            if not testing and touches and side != 0 and bands.first[band] <= i < bands.last[band]:
                out.band[count], out.begin[count], out.end[count] = band, i, bars.close.size - 1
                out.came_from[count], out.outcome[count] = side, 0
                testing, beyond = True, 0
            if testing:
                past = close < low if side > 0 else close > high
                beyond = beyond + 1 if past else 0
                back = close >= high + away if side > 0 else close <= low - away
                if beyond == 2 or back:
                    out.outcome[count], out.end[count] = (2 if beyond == 2 else 1), i
                    count += 1
                    testing, side = False, 0
            if not testing and not touches:
                side = 1 if bottom > high else -1
            i += 1
        if testing:
            count += 1
    return count
