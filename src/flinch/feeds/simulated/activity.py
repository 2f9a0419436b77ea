"""Shares and option contracts that trade in a session; both rise with the size of the day's move."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import SESSIONS
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.names import SIZES, Listing
from flinch.feeds.simulated.paths import Paths

Floats = NDArray[np.float64]
REPORT_SHARES, REPORT_CONTRACTS = 1.8, 2.2
"""How many times as much trades when a report is reacted to."""
UNTIL_NOW = 0.94
"""Of the newest session's shares, those that traded by its last quarter hour."""


class Activity:
    """How busy the market and each name are, which lasts for weeks: what a session begins with. A step changes it."""

    def __init__(self, shares: Floats, contracts: Floats, common: float, busy: Floats, options: Floats) -> None:
        """What usually trades in a session by name, and in logarithms how much more: common to all, of each name, of its
        options."""
        self.shares, self.contracts = shares, contracts
        self.common, self.busy, self.options = common, busy, options

    def step(self, lift: Floats, rng: np.random.Generator) -> tuple[Floats, Floats]:
        """Shares and contracts of the next session, by name, where its moves lift them so much."""
        count = lift.size
        self.common = 0.9 * self.common + 0.06 * rng.normal()
        self.busy = 0.94 * self.busy + 0.4 * np.sqrt(1 - 0.94**2) * rng.normal(size=count)
        shares = self.shares * lift * np.exp(self.common + self.busy + 0.2 * rng.normal(size=count))
        self.options = 0.8 * self.options + 0.3 * rng.normal(size=count)
        return shares, self.contracts * np.exp(self.options) * lift**1.3


def lift_of(previous: Floats, close: Floats, variance: Floats) -> Floats:
    """How much a move from the close before lifts what trades; `variance` is annualised."""
    move = np.abs(np.log(close / previous)) / np.sqrt(variance / 252)
    lift: Floats = 0.7 + 0.45 * np.minimum(move, 5.0)
    return lift


def make_activity(
    names: list[Listing], paths: Paths, shares: Floats, earnings: EarningsCalendar, rng: np.random.Generator
) -> tuple[Floats, NDArray[np.int64], Activity]:
    """Shares and option contracts traded per session, and where that ends."""
    count = len(names)
    base_shares = np.where(np.isfinite(shares), shares, 4e8 * np.exp(rng.normal(0, 0.7, count)))
    turnover = np.array([SIZES[n.size].turnover for n in names]) * np.exp(rng.normal(0, 0.3, count))
    base_options = np.array([SIZES[n.size].option_volume for n in names]) * np.exp(rng.normal(0, 0.75, count))
    previous = np.concatenate([paths.open[:, :1], paths.close[:, :-1]], axis=1)
    lift = lift_of(previous, paths.close, paths.variance.sum(axis=0))
    activity = Activity(base_shares * turnover, base_options, 0.0, rng.normal(0.0, 0.4, count), np.zeros(count))
    steps = [activity.step(lift[:, t], rng) for t in range(lift.shape[1])]
    volume, options = (np.stack(part, axis=1) for part in zip(*steps, strict=True))
    recent = (earnings.reaction >= 0) & (earnings.reaction < SESSIONS)
    volume[earnings.company[recent], earnings.reaction[recent]] *= REPORT_SHARES
    options[earnings.company[recent], earnings.reaction[recent]] *= REPORT_CONTRACTS
    volume[:, -1] *= UNTIL_NOW
    volume = np.round(volume, -2).astype(np.float64)
    volume[[n.kind == "index" for n in names]] = np.nan
    return volume, np.round(options).astype(np.int64), activity
