"""The chance to touch a price in a name's own past, against plain loops and a simulation."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.evidence import LEAST_WINDOWS, flat_smile, past_touch, touch_chance


@given(st.integers(0, 2**32 - 1), st.integers(1, 12), st.floats(0.9, 1.1))
def test_it_is_a_plain_count_of_past_stretches(seed, sessions, away):
    rng = np.random.default_rng(seed)
    close = 50 * np.exp(rng.normal(0.001, 0.02, 90).cumsum())
    high, low = close * (1 + rng.uniform(0, 0.02, 90)), close * (1 - rng.uniform(0, 0.02, 90))
    high[rng.integers(0, 90)] = low[rng.integers(0, 90)] = np.nan
    found = past_touch(high, low, close, away * close[-1], sessions)
    drift = np.log(close[-1] / close[0]) / 89
    hits = total = 0
    for start in range(90 - sessions):
        reached, known = False, True
        for step in range(1, sessions + 1):
            path = high if away >= 1 else low
            moved = math.log(path[start + step] / close[start]) - drift * step
            known &= not math.isnan(moved)
            reached |= moved >= math.log(away) if away >= 1 else moved <= math.log(away)
        total += known
        hits += reached and known
    assert (found.windows, found.apart) == (total, total // sessions)
    if total < LEAST_WINDOWS:
        assert math.isnan(found.chance)
    elif abs(away - 1) > 1e-9:
        assert found.chance == pytest.approx(hits / total)


def test_on_a_random_walk_it_comes_to_the_chance_that_reflection_gives():
    rng = np.random.default_rng(11)
    daily = 0.015
    steps = rng.normal(0, daily / 20, (6_000, 400)).cumsum(axis=1)
    start = np.concatenate([[0.0], steps[:-1, -1].cumsum()])[:, None]
    path = 50 * np.exp(start + steps)
    high, low, close = path.max(axis=1), path.min(axis=1), path[:, -1]
    for level in (1.03, 0.96, 1.08):
        found = past_touch(high, low, close, level * close[-1], 10)
        expected = float(touch_chance(np.array(level), flat_smile(np.array(daily**2 * 10))))
        assert found.chance == pytest.approx(expected, abs=0.035)


def test_a_steady_rise_promises_no_further_one():
    close = 50 * np.exp(0.002 * np.arange(300))
    up = past_touch(close, close, close, close[-1] * 1.001, 10)
    assert up.chance == 0.0, "its drift alone would touch it in every stretch"


def test_too_short_a_past_has_none():
    close = np.linspace(50, 60, 70)
    assert past_touch(close, close, close, 61, 10).windows == 60
    assert not math.isnan(past_touch(close, close, close, 61, 10).chance)
    assert math.isnan(past_touch(close[1:], close[1:], close[1:], 61, 10).chance)
    assert past_touch(close, close, close, 61, 70) == (pytest.approx(math.nan, nan_ok=True), 0, 0)
    gone = np.append(close, np.nan)
    assert math.isnan(past_touch(gone, gone, gone, 61, 5).chance)
