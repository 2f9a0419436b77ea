"""What price may be at an expiration, under three opinions: distributions as tables over a logarithmic grid of prices."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from scipy.special import stdtr

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.pricing.normal import normal_cdfs
from flinch.core.volatility import raw_svi

Opinion = Literal["market", "past", "forecast"]
OPINIONS: tuple[Opinion, ...] = ("market", "past", "forecast")
NODES = 2049
REACH = 8.0
"""Standard deviations that a table reaches from the forward, either way."""
LEAST_RETURNS = 60
_SQRT_TWO_PI = np.sqrt(2 * np.pi)
_LEAST_TAIL, _MOST_TAIL = 3.0, 100.0


class Outcomes(NamedTuple):
    """Distributions of the price at some expirations.

    `low` and `step`, shape (expirations,): logarithm of the first node and distance of the nodes. `chance` and `part`, shape
    (expirations, NODES): chance of ending at or below each node, and E[X; X <= node], the part of the mean that comes from there.
    The last node has chance 1 and the whole mean. NaN where the opinion says nothing.
    """

    low: FloatArray
    step: FloatArray
    chance: FloatArray
    part: FloatArray

    @property
    def mean(self) -> FloatArray:
        """E[X] of each expiration."""
        mean: FloatArray = self.part[:, -1]
        return mean

    def prices(self) -> FloatArray:
        """Prices of the nodes, shape (expirations, NODES)."""
        prices: FloatArray = np.exp(self.low[:, None] + self.step[:, None] * np.arange(NODES))
        return prices


def chance_below(outcomes: Outcomes, expiration: int, price: FloatArray) -> FloatArray:
    """Chance of ending at or below some prices (above zero, any shape) at one expiration."""
    place = (np.log(price) - outcomes.low[expiration]) / outcomes.step[expiration]
    below: FloatArray = np.interp(place, np.arange(NODES), outcomes.chance[expiration])
    return below


def variance_at_forward(parameters: FloatArray) -> FloatArray:
    """Total variance of raw SVI smiles, shape (..., 5), at the forward; shape (...)."""
    return raw_svi(parameters, np.zeros(parameters.shape[:-1]))[0]


def smile_chance(parameters: FloatArray, k: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Of raw SVI smiles, shape (..., 5), at k = ln(K/F), shape (...): the deviation s to the expiration, d2, and what the slope
    of the smile adds to N(-d2) in the chance of ending at or below K: n(d2) w'(k) / (2 s)."""
    w, slope = raw_svi(parameters, k)
    with np.errstate(invalid="ignore", divide="ignore"):
        s = np.sqrt(np.where(w > 0, w, np.nan))
        d2 = -k / s - 0.5 * s
        lean = np.exp(-0.5 * d2 * d2) / _SQRT_TWO_PI * slope / (2 * s)
    return s, d2, lean


def market_outcomes(parameters: FloatArray, years: FloatArray, forward: FloatArray) -> Outcomes:
    """The risk-neutral distribution that fitted smiles imply.

    Parameters
    ----------
    parameters
        Raw SVI of each expiration, shape (expirations, 5), in total variance over ln(K/F).
    years, forward
        Time left and forward price, shape (expirations,).

    Returns
    -------
    `Outcomes`; NaN where the smile, the time left or the forward is missing, or no time is left.

    Notes
    -----
    Breeden & Litzenberger (1978), Journal of Business 51(4): the density is the second derivative of the undiscounted call in the
    strike. With w the total variance at k = ln(K/F), P(X <= K) = N(-d2) + n(d2) w'(k) / (2 sqrt(w)).
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        deviation = np.sqrt(variance_at_forward(parameters))
        deviation = np.where((years > 0) & (forward > 0) & (deviation > 0), deviation, np.nan)
        k = deviation[:, None] * np.linspace(-REACH, REACH, NODES)
        s, d2, lean = smile_chance(parameters[:, None, :], k)
        chance = normal_cdfs(-d2) + lean
        part = forward[:, None] * (normal_cdfs(-d2 - s) + np.exp(k) * lean)
    return _closed(np.log(forward) - REACH * deviation, deviation * 2 * REACH / (NODES - 1), chance, part, forward)


def past_outcomes(
    close: FloatArray,
    sessions: IntArray,
    forward: FloatArray,
    *,
    deviation: FloatArray | None = None,
) -> Outcomes:
    """What a name's own past would make of its price: every stretch of so many sessions that it has had.

    Parameters
    ----------
    close
        Closes of one name up to now, shape (sessions,), adjusted for splits; a stretch with a missing end is left out.
    sessions
        How many sessions lie before each expiration, shape (expirations,), at least 1.
    forward
        Forward price, shape (expirations,).
    deviation
        Standard deviation of the logarithm to which the stretches are scaled; none: they are taken as they were.

    Returns
    -------
    `Outcomes`; NaN with fewer than `LEAST_RETURNS` stretches, or without a forward.

    Notes
    -----
    Stretches overlap. Their logarithms are taken from their mean and the distribution is moved so that its mean is the forward: a
    past rise is not taken for a promise. Between two stretches the distribution is linear; half a stretch lies beyond each end.
    """
    count = sessions.size
    low, step = np.full(count, np.nan), np.full(count, np.nan)
    chance, part = np.full((count, NODES), np.nan), np.full((count, NODES), np.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        log = np.log(close)
    for i in range(count):
        ahead = int(sessions[i])
        moves = log[ahead:] - log[:-ahead] if 1 <= ahead < log.size else np.empty(0)
        moves = np.sort(moves[np.isfinite(moves)])
        if moves.size < LEAST_RETURNS or not forward[i] > 0:
            continue
        moves = moves - moves.mean()
        spread = float(moves.std(ddof=1))
        if deviation is not None:
            moves, spread = moves * (deviation[i] / spread), float(deviation[i])
        if not spread > 0:
            continue
        # The outermost half stretches end as far out again as half the gap to their neighbours.
        ends = moves[0] - 0.5 * (moves[1] - moves[0]), moves[-1] + 0.5 * (moves[-1] - moves[-2])
        places = np.concatenate([[ends[0]], moves, [ends[1]]])
        heights = np.concatenate([[0.0], (np.arange(moves.size) + 0.5) / moves.size, [1.0]])
        reach = max(REACH * spread, -ends[0], ends[1]) * (1 + 1e-9)
        grid = np.linspace(-reach, reach, NODES)
        low[i], step[i] = grid[0], grid[1] - grid[0]
        chance[i] = np.interp(grid, places, heights)
        part[i] = _parts(grid, chance[i])
    return _centred(low, step, chance, part, forward)


def forecast_outcomes(deviation: FloatArray, tail: FloatArray, forward: FloatArray) -> Outcomes:
    """Student's distribution of the logarithm at a forecast volatility.

    Parameters
    ----------
    deviation
        Standard deviation of the logarithm to each expiration, the variance of a report inside included; shape (expirations,).
    tail
        Degrees of freedom, above 2; shape (expirations,).
    forward
        Forward price, shape (expirations,).

    Returns
    -------
    `Outcomes`, cut off `REACH` deviations from the middle (an exponential of Student's distribution has no mean) and moved so
    that the mean is the forward; NaN where an argument is missing.
    """
    with np.errstate(invalid="ignore"):
        known = np.flatnonzero((deviation > 0) & (tail > 2) & (forward > 0))
    low, step = np.full(forward.size, np.nan), np.full(forward.size, np.nan)
    chance, part = np.full((forward.size, NODES), np.nan), np.full((forward.size, NODES), np.nan)
    spread, freedom = deviation[known, None], tail[known, None]
    lower = stdtr(freedom, np.linspace(-REACH, 0.0, NODES // 2 + 1) / np.sqrt((freedom - 2) / freedom))
    whole = np.concatenate([lower, 1 - lower[:, -2::-1]], axis=1)
    grid = spread * np.linspace(-REACH, REACH, NODES)
    low[known], step[known] = grid[:, 0], grid[:, 1] - grid[:, 0]
    chance[known] = (whole - whole[:, :1]) / (whole[:, -1:] - whole[:, :1])
    price = np.exp(grid)
    part[known, 0] = 0.0
    part[known, 1:] = np.cumsum(np.diff(chance[known], axis=1) * 0.5 * (price[:, 1:] + price[:, :-1]), axis=1)
    return _centred(low, step, chance, part, forward)


def excess_kurtosis(returns: FloatArray) -> FloatArray:
    """Excess kurtosis of all returns up to each session.

    Parameters
    ----------
    returns
        Daily logarithmic returns over the volatility that was expected of them, shape (..., sessions), NaN where missing.

    Returns
    -------
    The same shape; NaN with fewer than `LEAST_RETURNS` returns so far.
    """
    there = np.isfinite(returns)
    x = np.where(there, returns, 0.0)
    count = np.cumsum(there, axis=-1)
    with np.errstate(invalid="ignore", divide="ignore"):
        one, two, three, four = (np.cumsum(x**power, axis=-1) / count for power in (1, 2, 3, 4))
        centred = four - 4 * one * three + 6 * one**2 * two - 3 * one**4
        excess: FloatArray = centred / (two - one**2) ** 2 - 3
    return np.where(count >= LEAST_RETURNS, excess, np.nan)


def own_tail(excess: FloatArray, sessions: FloatArray) -> FloatArray:
    """Degrees of freedom of Student's distribution over some sessions, from the kurtosis of a name's daily returns.

    Parameters
    ----------
    excess
        Excess kurtosis of daily returns (`excess_kurtosis`), any shape.
    sessions
        Horizons, the same shape; less than one counts as one.

    Returns
    -------
    The same shape, between 3 and 100; NaN where the kurtosis is missing.

    Notes
    -----
    Student's excess kurtosis is 6 / (n - 4); that of a sum of independent returns falls as one over their number.
    """
    with np.errstate(divide="ignore"):
        tail = 4.0 + 6.0 * np.maximum(sessions, 1) / np.maximum(excess, 1e-9)
    return np.clip(tail, _LEAST_TAIL, _MOST_TAIL)


def _parts(grid: FloatArray, chance: FloatArray) -> FloatArray:
    """E[X; X <= node] of prices exp(grid), each cell's mass at its middle."""
    price = np.exp(grid)
    return np.concatenate([[0.0], np.cumsum(np.diff(chance) * 0.5 * (price[1:] + price[:-1]))])


def _closed(low: FloatArray, step: FloatArray, chance: FloatArray, part: FloatArray, mean: FloatArray) -> Outcomes:
    """Both tables rising from nothing to all there is."""
    chance = np.maximum.accumulate(np.clip(chance, 0.0, 1.0), axis=1)
    part = np.maximum.accumulate(np.clip(part, 0.0, mean[:, None]), axis=1)
    known = np.isfinite(low)
    chance[:, 0], part[:, 0] = np.where(known, 0.0, np.nan), np.where(known, 0.0, np.nan)
    chance[:, -1], part[:, -1] = np.where(known, 1.0, np.nan), np.where(known, mean, np.nan)
    return Outcomes(low, step, chance, part)


def _centred(low: FloatArray, step: FloatArray, chance: FloatArray, part: FloatArray, mean: FloatArray) -> Outcomes:
    """The same distribution of the logarithm, moved so that its mean is the one wanted."""
    with np.errstate(invalid="ignore", divide="ignore"):
        factor = np.where(mean > 0, mean, np.nan) / part[:, -1]
        return Outcomes(low + np.log(factor), step, chance, part * factor[:, None])
