"""Range rules over a universe, and which rule did the cutting."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray

# Rows handled together, so that a block of every metric stays in the processor's cache while all rules read it.
_BLOCK_VALUES = 65_536


class RangeRule(NamedTuple):
    """A metric between two edges, both included; an infinite edge is open."""

    metric: str
    lower: float = -np.inf
    upper: float = np.inf

    @property
    def is_open(self) -> bool:
        """An open rule cuts nothing, missing values included."""
        return bool(self.lower == -np.inf and self.upper == np.inf)


class FunnelStep(NamedTuple):
    """One rule's part: names that reached it, survived it, were lost to missing data there, and would come back without it."""

    reached: int
    survivors: int
    missing: int
    lone_cut: int


class ScreenResult(NamedTuple):
    """Names that survive every rule, in the shape of the metrics, and one step per rule."""

    survivors: BoolArray
    steps: list[FunnelStep]


def run_screen(metrics: Mapping[str, FloatArray], rules: Sequence[RangeRule], universe: BoolArray) -> ScreenResult:
    """Apply `rules` in order.

    Parameters
    ----------
    metrics
        By key, each of one shape: (names,) for one session or (names, sessions) for every session at once. NaN is missing.
    rules
        At most 250; each names a metric that is there.
    universe
        Who takes part, shape of the metrics.

    Returns
    -------
    `ScreenResult`. A missing value neither meets nor fails a rule: it does not survive, and is counted as missing. The lone
    cut counts names that only this rule keeps out, for failing it or for missing data. Counts are over all sessions given.

    Raises
    ------
    KeyError
        For a rule on an unknown metric.
    ValueError
        For an inverted range or too many rules.
    """
    if len(rules) > 250:
        raise ValueError(f"{len(rules)} rules are too many: 250 at most")
    for rule in rules:
        if not rule.lower <= rule.upper:
            raise ValueError(f"{rule.metric}: the lower edge {rule.lower:g} is above the upper edge {rule.upper:g}")
    arrays = [metrics[rule.metric] for rule in rules]
    survivors = np.empty(universe.shape, dtype=bool)
    totals = np.zeros((len(rules), 4), dtype=np.int64)
    row_size = int(np.prod(universe.shape[1:], dtype=np.int64))
    block = max(1, _BLOCK_VALUES // max(1, row_size))
    for start in range(0, universe.shape[0], block):
        rows = slice(start, start + block)
        alive = universe[rows].copy()
        failed = np.zeros(alive.shape, dtype=np.uint8)
        passes: list[BoolArray] = []
        for step, (rule, array) in enumerate(zip(rules, arrays, strict=True)):
            before = int(np.count_nonzero(alive))
            if rule.is_open:
                totals[step] += (before, before, 0, 0)
                passes.append(np.broadcast_to(np.True_, alive.shape))
                continue
            values = array[rows]
            meets = values >= rule.lower
            if rule.upper < np.inf:
                meets &= values <= rule.upper
            known = values == values
            totals[step, 2] += before - int(np.count_nonzero(alive & known))
            alive &= meets
            failed += ~meets
            passes.append(meets)
            totals[step, 0] += before
            totals[step, 1] += int(np.count_nonzero(alive))
        lone = (failed == 1) & universe[rows]
        if lone.any():
            for step, meets in enumerate(passes):
                totals[step, 3] += int(np.count_nonzero(lone & ~meets))
        survivors[rows] = alive
    return ScreenResult(survivors, [FunnelStep(*(int(v) for v in row)) for row in totals])
