"""What options price for an earnings report: the variance that the term structure holds beyond a smooth curve."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray

# Speeds at which volatility is taken to return to its long mean, per year.
_SPEEDS = (4.0, 8.0, 16.0)
_FURTHEST_YEARS = 1.1
_QUARTER_DAYS = 91


class ExEarnings(NamedTuple):
    """The one-day move priced for a report, shape (names,), decimal; and volatilities without reports, (names, expiries)."""

    move: FloatArray
    vols: FloatArray


def ex_earnings(years: FloatArray, vols: FloatArray, reports: IntArray) -> ExEarnings:
    """Take the reports' variance out of a term structure.

    Parameters
    ----------
    years, vols
        Time to each expiry and its volatility at the money, shape (names, expiries), years of 365 days and annualised decimals;
        NaN where there is none.
    reports
        Reports that the price will react to up to each expiry, same shape.

    Returns
    -------
    `ExEarnings`. `move` is NaN when no expiry lies behind a report, or fewer than three can tell the report from the rest;
    zero when the term structure does not jump. `vols` are as given where no report is priced.

    Notes
    -----
    Total variance is fitted by least squares in volatility as s T + d (1 - exp(-c T)) / c + J n, with n reports to each expiry
    and the speed c that fits best; the move is sqrt(J).
    """
    usable = np.isfinite(years) & np.isfinite(vols) & (years > 0) & (years <= _FURTHEST_YEARS)
    t = np.where(usable, years, 1.0)
    v = np.where(usable, vols, 1.0)
    weight = np.where(usable, 1.0 / (1.0 + 4.0 * t), 0.0)
    n = np.where(usable, reports, 0).astype(np.float64)
    count = usable.sum(axis=1)
    told: BoolArray = (n.max(axis=1, initial=0) > 0) & (count >= 3)
    best = np.full(years.shape[0], np.inf)
    jump = np.full(years.shape[0], np.nan)
    smooth = np.zeros(years.shape)
    for speed in _SPEEDS:
        # Divided by v T, so that a residual is one of volatility.
        columns = np.stack([1 / v, -np.expm1(-speed * t) / (speed * t * v), n / (t * v)], axis=-1)
        bend = (count >= 4).astype(np.float64)
        columns[..., 1] *= bend[:, None]
        found, misfit = _least_squares(columns, v, weight, np.array([0.0, 1e-4, 1e-12]))
        plain = _least_squares(columns * [1, 1, 0], v, weight, np.array([0.0, 1e-4, 1.0]))[1]
        negative = found[:, 2] < 0
        misfit, size = np.where(negative, plain, misfit), np.where(negative, 0.0, found[:, 2])
        better = misfit < best
        best, jump = np.where(better, misfit, best), np.where(better, size, jump)
        curve = (found[:, :1] * columns[..., 0] + found[:, 1:2] * columns[..., 1]) * v
        smooth = np.where(better[:, None], curve, smooth)
    jump = np.where(told, jump, np.nan)
    removed = np.where(told, np.nan_to_num(jump), 0.0)[:, None] * reports
    with np.errstate(invalid="ignore", divide="ignore"):
        rest = vols**2 - removed / years
        # A report can be most of a short option's variance, never all of it: a quarter of the smooth curve's stays.
        kept = np.sqrt(np.maximum(rest, np.where(removed > 0, np.maximum(0.25 * smooth, 1e-4), 0.0)))
    return ExEarnings(np.sqrt(jump), kept)


def _least_squares(
    columns: FloatArray, target: FloatArray, weight: FloatArray, ridge: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Weighted least squares a name: coefficients (names, terms) and the weighted sum of squared residuals."""
    weighted = columns * weight[..., None]
    normal = np.einsum("nei,nej->nij", weighted, columns) + np.diag(ridge + 1e-12)
    moments = np.einsum("nei,ne->ni", weighted, target)
    found = np.linalg.solve(normal, moments[..., None])[..., 0]
    residual = target - np.einsum("nei,ni->ne", columns, found)
    return found, (weight * residual**2).sum(axis=1)


def reports_before(days: IntArray, to_report: FloatArray) -> IntArray:
    """Reports up to each expiry: the next one, and after it one every quarter.

    Parameters
    ----------
    days
        Calendar days to each expiry, shape (names, expiries) or (expiries,).
    to_report
        Days to the last close before the next report's reaction, shape (names,); NaN when none is scheduled.

    Returns
    -------
    Shape (names, expiries). An expiry holds the report when it comes later than that close.
    """
    after = np.broadcast_to(days, (to_report.size, np.shape(days)[-1])) - to_report[:, None]
    with np.errstate(invalid="ignore"):
        return np.where(after > 0, 1 + np.floor((after - 1) / _QUARTER_DAYS), 0).astype(np.int64)
