"""What options price: at-the-money total variance per expiry, and the smile around it, free of static arbitrage."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.paths import PERSISTENCE

Floats = NDArray[np.float64]


class Smile(NamedTuple):
    """Slope and wing of the smiles, any one shape."""

    rho: Floats
    eta: Floats


def smile_history(names: int, sessions: int, rng: np.random.Generator) -> Smile:
    """Smiles that wander about each name's own, shape (names, sessions).

    They price no butterfly below zero: eta (1 + |rho|) < 2 (Gatheral & Jacquier 2014, theorem 4.2).
    """
    centre = Smile(rng.uniform(-0.6, -0.15, names), rng.uniform(0.45, 0.95, names))
    state = rng.normal(0.0, 1.0, (2, names))
    walk = np.empty((2, names, sessions))
    for t in range(sessions):
        state = 0.96 * state + np.sqrt(1 - 0.96**2) * rng.normal(size=state.shape)
        walk[:, :, t] = state
    rho = np.clip(centre.rho[:, None] + 0.08 * walk[0], -0.75, 0.1)
    return Smile(rho, np.clip(centre.eta[:, None] * np.exp(0.08 * walk[1]), 0.35, 1.1))


def smile_vol(atm_vol: Floats, log_moneyness: Floats, years: Floats, rho: Floats, eta: Floats) -> Floats:
    """Volatility at ln(K/F) on a surface SVI with phi = eta / sqrt(theta); element-wise."""
    theta = atm_vol**2 * years
    z = eta * log_moneyness / np.sqrt(theta)
    total = 0.5 * theta * (1 + rho * z + np.sqrt((z + rho) ** 2 + 1 - rho**2))
    vol: Floats = np.sqrt(total / years)
    return vol


def atm_vols(
    variance: Floats, long_variance: Floats, premium: Floats, years: Floats, earnings_variance: Floats
) -> Floats:
    """At-the-money volatility of each name and expiry, shape (names, expiries).

    Parameters
    ----------
    variance, long_variance
        Squared volatility by factor now and in the long run, shape (3, names).
    premium
        What options ask over the expected volatility, a factor, shape (names,).
    years
        Time to each expiry, shape (expiries,).
    earnings_variance
        Sum of the squared priced moves of the reports before each expiry, shape (names, expiries).
    """
    speed = -np.log(PERSISTENCE) * 252
    pull = speed[:, None] * years
    fade = -np.expm1(-pull) / pull
    expected = (long_variance[:, :, None] + (variance - long_variance)[:, :, None] * fade[:, None, :]).sum(axis=0)
    vol: Floats = np.sqrt(premium[:, None] ** 2 * expected + earnings_variance / years)
    return vol


def earnings_variance(
    earnings: EarningsCalendar, names: int, session: int, expiry_sessions: NDArray[np.int64]
) -> Floats:
    """Sum of squared priced moves that react after `session` and up to each expiry, shape (names, expiries).

    Expiries are in order.
    """
    first = np.searchsorted(expiry_sessions, earnings.reaction)
    inside = (earnings.reaction > session) & (first < expiry_sessions.size)
    place = earnings.company[inside] * expiry_sessions.size + first[inside]
    squares = np.bincount(place, earnings.priced_move[inside] ** 2, names * expiry_sessions.size)
    found: Floats = np.cumsum(squares.reshape(names, expiry_sessions.size), axis=1)
    return found


def premium_history(names: int, sessions: int, funds: NDArray[np.bool_], rng: np.random.Generator) -> Floats:
    """What options ask over expected volatility, a factor per name and session: about 7 % on average, more for funds."""
    centre = rng.normal(0.07, 0.05, names) + np.where(funds, 0.05, 0.0)
    persistence, spread = 0.93, 0.05
    state = rng.normal(0.0, spread, names)
    out = np.empty((names, sessions))
    for t in range(sessions):
        state = persistence * state + spread * np.sqrt(1 - persistence**2) * rng.normal(size=names)
        out[:, t] = np.exp(centre + state)
    return out
