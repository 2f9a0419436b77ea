"""Forecast volatility: a heterogeneous autoregression on the range estimator, walked forward."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.rolling import lag, rolling_mean

HORIZON = 21
_WINDOWS = (1, 5, 21)
_LEAST_DAYS = 42
_LONG = 252
_LEAST_LONG = 63


def session_variance(open: FloatArray, high: FloatArray, low: FloatArray, close: FloatArray) -> FloatArray:
    """Variance of each session from its gap and its range, not annualised.

    Daily bars of shape (..., sessions); NaN where a bar or the close before is missing. The squared overnight return and the
    range estimator of Parkinson (1980), ln(H/L)^2 / (4 ln 2), for the hours between open and close.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        found: FloatArray = np.log(open / lag(close, 1)) ** 2 + np.log(high / low) ** 2 / (4 * np.log(2))
        return found


def realised_ahead(variance: FloatArray, horizon: int = HORIZON) -> FloatArray:
    """Annualised volatility of the `horizon` sessions after each, same shape; NaN where one of them is not there."""
    found: FloatArray = np.sqrt(252 * _mean_ahead(variance, horizon))
    return found


def _mean_ahead(variance: FloatArray, horizon: int) -> FloatArray:
    out = np.full(variance.shape, np.nan)
    out[..., :-horizon] = rolling_mean(variance, horizon)[..., horizon:]
    return out


def forecast_vol(variance: FloatArray, horizon: int = HORIZON) -> FloatArray:
    """Volatility expected over the next `horizon` sessions, from what was known at each session.

    Parameters
    ----------
    variance
        `session_variance`, shape (names, sessions).
    horizon
        Sessions ahead.

    Returns
    -------
    Annualised decimal, same shape. NaN until 63 sessions of the name give it a long mean and 42 sessions of outcomes give the
    market its coefficients, and where one of the last 21 sessions is missing.

    Notes
    -----
    Corsi (2009), Journal of Financial Econometrics 7(2): the mean variance ahead on that of one, five and 21 sessions. Each is
    taken relative to the name's own mean of up to 252 sessions, to which the forecast shrinks as the coefficients add up to less
    than one; the coefficients are those of all names together (Bollerslev, Hood, Huss & Pedersen 2018), estimated at each session
    from outcomes that were complete by then.
    """
    sessions = variance.shape[1]
    long = _expanding_mean(variance)
    with np.errstate(invalid="ignore", divide="ignore"):
        terms = np.stack([_capped(rolling_mean(variance, w) / long) - 1 for w in _WINDOWS], axis=-1)
        target = _capped(_mean_ahead(variance, horizon) / long) - 1
    known = np.isfinite(terms).all(axis=-1)
    told = known & np.isfinite(target)
    x = np.where(told[..., None], terms, 0.0)
    y = np.where(told, target, 0.0)
    normal = np.einsum("nti,ntj->tij", x, x, optimize=True)
    moments = np.einsum("nti,nt->ti", x, y, optimize=True)
    days = told.any(axis=0)
    # What began `horizon` sessions ago has ended now.
    late = np.maximum(np.arange(sessions) - horizon, -1)
    total = [np.concatenate([np.zeros((1, *a.shape[1:])), np.cumsum(a, axis=0)])[late + 1] for a in (normal, moments)]
    seen = np.concatenate([[0], np.cumsum(days)])[late + 1]
    ridge = 1e-6 * np.trace(total[0], axis1=1, axis2=2)[:, None, None] * np.eye(3) + 1e-12 * np.eye(3)
    slope = np.linalg.solve(total[0] + ridge, total[1][..., None])[..., 0]
    expected = long * np.maximum(1 + np.einsum("nti,ti->nt", terms, slope), 0.1)
    found: FloatArray = np.where(known & (seen >= _LEAST_DAYS)[None, :], np.sqrt(252 * expected), np.nan)
    return found


def _capped(ratio: FloatArray) -> FloatArray:
    """One wild session is worth no more than ten usual ones."""
    return np.minimum(ratio, 10.0)


def _expanding_mean(variance: FloatArray) -> FloatArray:
    """Mean of up to 252 sessions that end at each, NaN with fewer than 63 among them."""
    seen = np.isfinite(variance)
    total = np.cumsum(np.where(seen, variance, 0.0), axis=1)
    count = np.cumsum(seen, axis=1)
    total[:, _LONG:], count[:, _LONG:] = total[:, _LONG:] - total[:, :-_LONG], count[:, _LONG:] - count[:, :-_LONG]
    return np.where(count >= _LEAST_LONG, total / np.maximum(count, 1), np.nan)


class ForecastErrors(NamedTuple):
    """Root mean squared errors against what came, in volatility, decimals; `outcomes` forecasts had one."""

    forecast: float
    last: float
    long_mean: float
    implied: float
    outcomes: int


def forecast_errors(variance: FloatArray, forecast: FloatArray, implied: FloatArray) -> ForecastErrors:
    """How far the forecast and the naive ones were from the volatility of the 21 sessions that followed.

    Parameters
    ----------
    variance, forecast, implied
        `session_variance`, `forecast_vol` and 30-day implied volatility, shape (..., sessions); compared where all are known.

    Returns
    -------
    `ForecastErrors` over all names and sessions given: of the forecast, the last 21 sessions' volatility, the mean of up to 252
    sessions, and implied volatility. NaN without an outcome.
    """
    rows = np.atleast_2d(variance)
    came = realised_ahead(rows)
    guesses = [
        np.atleast_2d(forecast),
        np.sqrt(252 * rolling_mean(rows, 21)),
        np.sqrt(252 * _expanding_mean(rows)),
        np.atleast_2d(implied),
    ]
    both = np.isfinite(came) & np.all([np.isfinite(g) for g in guesses], axis=0)
    count = int(both.sum())
    if not count:
        return ForecastErrors(np.nan, np.nan, np.nan, np.nan, 0)
    rms = [float(np.sqrt(np.mean((g[both] - came[both]) ** 2))) for g in guesses]
    return ForecastErrors(rms[0], rms[1], rms[2], rms[3], count)
