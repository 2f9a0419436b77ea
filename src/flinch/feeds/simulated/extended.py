"""Before the open and after the close: how much of the night's move was seen there, on how many shares."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.names import SIZES, Listing
from flinch.feeds.simulated.storylines import Storyline

Floats = NDArray[np.float64]


USUAL = {"large": 0.012, "medium": 0.006, "small": 0.003}
"""Of what trades in a usual session, the share that trades before the open."""
QUIET = {"large": 0.0, "medium": 0.08, "small": 0.45}
"""How often nothing trades outside regular hours: small names do not every morning."""


class ExtendedHours(NamedTuple):
    """Before a session's open and after its close, shape (names, sessions) or, of one session, (names,); NaN where nothing
    traded."""

    pre_high: Floats
    pre_low: Floats
    pre_last: Floats
    pre_volume: Floats
    post_last: Floats
    post_volume: Floats


def make_extended(
    names: list[Listing],
    opened: Floats,
    close: Floats,
    volume: Floats,
    earnings: EarningsCalendar,
    planted: dict[str, Storyline],
    rng: np.random.Generator,
) -> ExtendedHours:
    """Draw the evenings and mornings of every name: reports after the close move the evening, the rest the morning. The evening
    after the newest session is still ahead."""
    sessions = close.shape[1]
    previous = np.concatenate([opened[:, :1], close[:, :-1]], axis=1)
    night = np.log(opened / previous)
    evening_share = np.clip(rng.normal(0.25, 0.15, close.shape), 0.0, 0.9)
    evenings = (~earnings.before_open) & (earnings.reaction >= 0) & (earnings.reaction < sessions)
    evening_share[earnings.company[evenings], earnings.reaction[evenings]] = rng.uniform(0.7, 1.1, evenings.sum())
    mornings = earnings.before_open & (earnings.reaction >= 0) & (earnings.reaction < sessions)
    evening_share[earnings.company[mornings], earnings.reaction[mornings]] *= 0.2

    usual = np.array([USUAL[name.size] for name in names])[:, None]
    surprise = np.abs(night) / np.maximum(np.abs(night).mean(axis=1, keepdims=True), 1e-6)
    typical = np.nan_to_num(volume).mean(axis=1, keepdims=True)
    draws = np.exp(rng.normal(0.0, 0.6, (2, *close.shape)))
    pre_volume = typical * usual * draws[0] * (0.5 + 0.5 * surprise**1.3)
    post_volume = typical * usual * 0.6 * draws[1] * (0.6 + 0.4 * (surprise * evening_share) ** 1.3)
    quiet = np.array([QUIET[name.size] for name in names])[:, None]
    awake = rng.random((2, *close.shape)) >= quiet * np.exp(-0.7 * np.maximum(surprise - 1, 0))

    reached = night * evening_share
    spread = np.array([SIZES[name.size].half_spread_vol for name in names])[:, None] * 0.12
    reach = np.abs(rng.normal(0.0, 1.0, (3, *close.shape))) * (spread + 0.25 * np.abs(night))
    pre_last = previous * np.exp(night + spread * rng.normal(size=close.shape))
    high = np.maximum(pre_last, previous * np.exp(reached)) * np.exp(reach[0] * 0.5)
    low = np.minimum(pre_last, previous * np.exp(reached)) * np.exp(-reach[1] * 0.5)
    post_last = np.roll(previous * np.exp(reached), -1, axis=1)
    for i, name in enumerate(names):
        story = planted.get(name.symbol)
        if story and story.premarket_share is not None:
            pre_volume[i, -1] = story.premarket_share * np.nanmean(volume[i, -51:-1])
            awake[0, i, -1] = True
    index = np.array([name.kind == "index" for name in names])[:, None]
    before, after = awake[0] & ~index, awake[1] & ~index
    after[:, -1] = False

    def seen(values: Floats, where: NDArray[np.bool_], decimals: int) -> Floats:
        return np.where(where, np.round(values, decimals), np.nan)

    return ExtendedHours(
        seen(high, before, 2),
        seen(low, before, 2),
        seen(np.clip(pre_last, low, high), before, 2),
        seen(pre_volume, before, -1),
        seen(post_last, after, 2),
        seen(np.roll(post_volume, -1, axis=1), after, -1),
    )
