"""How often shelves held beside a placebo: whether they are any better than prices where nothing was printed."""

from __future__ import annotations

from statistics import NormalDist
from typing import Literal, NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray

LEAST_SESSIONS = 30
"""Sessions with tests from which on anything is said."""
_SURE = 0.95
Verdict = Literal["too few", "none", "above", "below"]


class Compared(NamedTuple):
    """Shares of decided tests that held: of shelves and of the placebo (decimals, NaN without tests), their difference with its
    95 % interval, how many tests of each were decided, in how many sessions, and what that says: `none` is no better than the
    placebo."""

    held: float
    placebo: float
    difference: float
    low: float
    high: float
    tests: int
    placebo_tests: int
    sessions: int
    verdict: Verdict


def compare_holding(
    held: FloatArray,
    decided: FloatArray,
    placebo_held: FloatArray,
    placebo_decided: FloatArray,
    *,
    looks: int = 1,
) -> Compared:
    """Compare how often shelves held with how often their placebo did.

    Parameters
    ----------
    held, decided
        How many tests held, and how many were decided, names x sessions, by the session in which they began.
    placebo_held, placebo_decided
        The same of prices where nothing was printed.
    looks
        How many such comparisons are shown together: the interval is as wide as all of them need to hold at once (Bonferroni).

    Returns
    -------
    `Compared`. The interval allows for names and sessions that go together: variance clustered both ways, by name and by session
    (Cameron, Gelbach & Miller 2011), of the two ratios linearised.
    """
    tests, placebo_tests = float(decided.sum()), float(placebo_decided.sum())
    sessions = int((decided.sum(axis=0) > 0).sum())
    if not tests or not placebo_tests:
        nan = float("nan")
        return Compared(nan, nan, nan, nan, nan, int(tests), int(placebo_tests), sessions, "too few")
    share, base = float(held.sum()) / tests, float(placebo_held.sum()) / placebo_tests
    pull = (held - share * decided) / tests - (placebo_held - base * placebo_decided) / placebo_tests
    by_name, by_session, both = (pull.sum(axis=1) ** 2).sum(), (pull.sum(axis=0) ** 2).sum(), (pull**2).sum()
    error = float(np.sqrt(max(by_name + by_session - both, by_name, by_session)))
    difference = share - base
    wide = NormalDist().inv_cdf(1 - (1 - _SURE) / 2 / looks) * error
    low, high = difference - wide, difference + wide
    verdict: Verdict = (
        "too few" if sessions < LEAST_SESSIONS else "above" if low > 0 else "below" if high < 0 else "none"
    )
    return Compared(share, base, difference, low, high, int(tests), int(placebo_tests), sessions, verdict)
