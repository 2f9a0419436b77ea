"""Two names' chains on a made-up surface, quoted three cents either way of the fitted price."""

from __future__ import annotations

import numpy as np

from flinch.core.pricing import greeks, option_price
from flinch.core.structures import Expirations, Quotes, Surface, Terms, market_outcomes
from flinch.core.volatility import smile_vol

RATE, CARRY = 0.04, 0.01
YEARS = np.array([16, 30, 58]) / 365
SPOTS = np.array([100.0, 250.0])
DAYS = np.array([16, 30, 58])


def smile(years: float, level: float = 0.3) -> np.ndarray:
    """Raw SVI of a smile whose form does not change with time."""
    w = level * level * years
    return np.array([0.6 * w, 0.4 * np.sqrt(w), -0.35, 0.0, 1.0 * np.sqrt(w)])


PARAMETERS = np.stack([smile(years) for years in np.tile(YEARS, 2)])
T = np.tile(YEARS, 2)
SPOT = np.repeat(SPOTS, 3)
FORWARD = SPOT * np.exp((RATE - CARRY) * T)
SURFACE = Surface(YEARS, np.full(3, CARRY), PARAMETERS[:3], RATE, "european")
DEVIATION = np.tile(np.sqrt(SURFACE.variance), 2)
EXPIRATIONS = Expirations(
    np.repeat([0, 1], 3), np.tile(DAYS, 2), SPOT, SPOT * DEVIATION, SPOT, np.array([True, True, False] * 2)
)
TERMS = Terms(
    T, SPOT, FORWARD, np.exp(-RATE * T), DEVIATION, np.full(6, CARRY), np.full(6, 100.0), np.full(6, np.nan), PARAMETERS,
    RATE, np.zeros(6),
)  # fmt: skip
MARKET = market_outcomes(PARAMETERS, T, FORWARD)


def chain() -> Quotes:
    rng = np.random.default_rng(5)
    columns: list[list[np.ndarray]] = []
    for e in range(6):
        step = 2.5 if SPOT[e] < 200 else 5.0
        strike = np.arange(0.7 * SPOT[e], 1.3 * SPOT[e] + 1e-9, step)
        for is_call in (False, True):
            vol = smile_vol(
                np.tile(PARAMETERS[e], (strike.size, 1)), np.full(strike.size, T[e]), np.log(strike / FORWARD[e])
            )
            kind = {"is_call": is_call, "rate": RATE, "dividend_yield": CARRY}
            price = option_price(SPOT[e], strike, T[e], vol, **kind)
            slopes = greeks(SPOT[e], strike, T[e], vol, **kind)
            columns.append(
                [
                    np.full(strike.size, e), np.full(strike.size, is_call), strike, price - 0.03, price + 0.03, slopes.delta,
                    slopes.gamma, slopes.theta, slopes.vega, rng.integers(5, 900, strike.size).astype(float),
                    rng.integers(0, 90, strike.size).astype(float),
                ]
            )  # fmt: skip
    return Quotes(*(np.concatenate(parts) for parts in zip(*columns, strict=True)))
