"""What options price: at-the-money total variance per expiry, and the smile around it, free of static arbitrage."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.compiled import njit
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.paths import PERSISTENCE

Floats = NDArray[np.float64]


class Smile(NamedTuple):
    """Slope and wing of the smiles, any one shape."""

    rho: Floats
    eta: Floats


class Smiles:
    """Smiles that wander about each name's own: what a session begins with. A step changes it.

    They price no butterfly below zero: eta (1 + |rho|) < 2 (Gatheral & Jacquier 2014, theorem 4.2).
    """

    def __init__(self, centre: Smile, state: Floats) -> None:
        """`centre` by name; `state` where its slope and wing are about it, shape (2, names)."""
        self.centre, self.state = centre, state

    @classmethod
    def begun(cls, names: int, rng: np.random.Generator) -> Smiles:
        centre = Smile(rng.uniform(-0.6, -0.15, names), rng.uniform(0.45, 0.95, names))
        return cls(centre, rng.normal(0.0, 1.0, (2, names)))

    def step(self, rng: np.random.Generator) -> Smile:
        """The smiles of the next session, shape (names,)."""
        self.state = 0.96 * self.state + np.sqrt(1 - 0.96**2) * rng.normal(size=self.state.shape)
        rho = np.clip(self.centre.rho + 0.08 * self.state[0], -0.75, 0.1)
        return Smile(rho, np.clip(self.centre.eta * np.exp(0.08 * self.state[1]), 0.35, 1.1))


def smile_history(names: int, sessions: int, rng: np.random.Generator) -> tuple[Smile, Smiles]:
    """Smiles of some sessions, shape (names, sessions), and where they end."""
    smiles = Smiles.begun(names, rng)
    steps = [smiles.step(rng) for _ in range(sessions)]
    return Smile(*(np.stack(part, axis=1) for part in zip(*steps, strict=True))), smiles


def smile_vol(atm_vol: Floats, log_moneyness: Floats, years: Floats, rho: Floats, eta: Floats) -> Floats:
    """Volatility at ln(K/F) on a surface SVI with phi = eta / sqrt(theta); element-wise."""
    theta = atm_vol**2 * years
    z = eta * log_moneyness / np.sqrt(theta)
    total = 0.5 * theta * (1 + rho * z + np.sqrt((z + rho) ** 2 + 1 - rho**2))
    vol: Floats = np.sqrt(total / years)
    return vol


_NODES, _WEIGHTS = (0.5 * part for part in np.polynomial.legendre.leggauss(6))
_NODES = _NODES + 0.5


class Variance(NamedTuple):
    """Squared volatility by factor (market, sector, own), shape (3, names): now, in the long run, and the standard deviation of
    half its logarithm."""

    now: Floats
    long: Floats
    spread: Floats


def atm_vols(variance: Variance, premium: Floats, years: Floats, earnings_variance: Floats) -> Floats:
    """At-the-money volatility of each name and expiry, shape (names, expiries).

    Parameters
    ----------
    variance
        What the volatility is, and what it comes back to.
    premium
        What options ask over the expected volatility, a factor, shape (names,).
    years
        Time to each expiry, shape (expiries,).
    earnings_variance
        Sum of the squared priced moves of the reports before each expiry, shape (names, expiries).

    Notes
    -----
    Half the log variance x, about its mean, decays as x k with k = persistence ^ sessions, so the variance expected then is
    long exp(2 x k - 2 s^2 k^2); its mean up to each expiry by Gauss-Legendre.
    """
    speed = -np.log(PERSISTENCE) * 252
    decay = np.exp(-speed[:, None, None] * (years[:, None] * _NODES))
    out = np.empty((premium.size, years.size))
    now, long, spread = (np.ascontiguousarray(part) for part in variance)
    _expected(now, long, spread, decay, out)
    vol: Floats = np.sqrt(premium[:, None] ** 2 * out + earnings_variance / years)
    return vol


@njit(cache=True, nogil=True)
def _expected(now: Floats, long: Floats, spread: Floats, decay: Floats, out: Floats) -> None:
    """Mean variance up to each expiry, names x expiries; `decay` is factors x expiries x nodes."""
    out[:] = 0.0
    for factor in range(now.shape[0]):
        for i in range(now.shape[1]):
            s2 = spread[factor, i] ** 2
            if long[factor, i] <= 0.0:
                continue
            away = 0.5 * np.log(now[factor, i] / long[factor, i]) + s2
            for e in range(out.shape[1]):
                mean = 0.0
                for n in range(decay.shape[2]):
                    k = decay[factor, e, n]
                    mean += _WEIGHTS[n] * np.exp(2.0 * k * (away - s2 * k))
                out[i, e] += long[factor, i] * mean


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
    summed: Floats = np.cumsum(squares.reshape(names, expiry_sessions.size), axis=1)
    return summed


class Premium:
    """What options ask over expected volatility: about 7 % on average, more for funds; what a session begins with."""

    _PERSISTENCE, _SPREAD = 0.93, 0.05

    def __init__(self, centre: Floats, state: Floats) -> None:
        """By name, in logarithms."""
        self.centre, self.state = centre, state

    @classmethod
    def begun(cls, funds: NDArray[np.bool_], rng: np.random.Generator) -> Premium:
        centre = rng.normal(0.07, 0.05, funds.size) + np.where(funds, 0.05, 0.0)
        return cls(centre, rng.normal(0.0, cls._SPREAD, funds.size))

    def step(self, rng: np.random.Generator) -> Floats:
        """The next session's, a factor by name."""
        shock = self._SPREAD * np.sqrt(1 - self._PERSISTENCE**2) * rng.normal(size=self.state.size)
        self.state = self._PERSISTENCE * self.state + shock
        factor: Floats = np.exp(self.centre + self.state)
        return factor


def premium_history(sessions: int, funds: NDArray[np.bool_], rng: np.random.Generator) -> tuple[Floats, Premium]:
    """The premium of some sessions, shape (names, sessions), and where it ends."""
    premium = Premium.begun(funds, rng)
    return np.stack([premium.step(rng) for _ in range(sessions)], axis=1), premium
