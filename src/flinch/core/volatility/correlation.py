"""How alike the members of a fund move: what its options imply and what its members did."""

from __future__ import annotations

import numpy as np

from flinch.core.arrays import FloatArray, IntArray

LEAST_COVERED = 0.9
"""Share of a fund's weight whose members must have a volatility."""


def average_correlation(fund_vol: FloatArray, member_vols: FloatArray, weights: FloatArray) -> FloatArray:
    """The one correlation between all members that makes their volatilities add up to the fund's.

    Parameters
    ----------
    fund_vol
        Shape (sessions,), annualised decimals; NaN where missing.
    member_vols
        Shape (members, sessions).
    weights
        Shape (members,), above zero.

    Returns
    -------
    Shape (sessions,), -1 to 1 as a rule; not cut off, since quotes may say more. NaN where the fund's volatility or that of
    more than a tenth of the weight is missing; the weights of the others then stand for the whole.

    Notes
    -----
    (s_f^2 - sum w_i^2 s_i^2) / ((sum w_i s_i)^2 - sum w_i^2 s_i^2). Skintzi & Refenes (2005), Journal of Futures Markets
    25(2).
    """
    known = np.isfinite(member_vols)
    w = np.where(known, weights[:, None], 0.0)
    covered = w.sum(axis=0) / weights.sum()
    with np.errstate(invalid="ignore", divide="ignore"):
        w = w / w.sum(axis=0)
        part = w * np.where(known, member_vols, 0.0)
        own = (part**2).sum(axis=0)
        whole = part.sum(axis=0) ** 2
        found: FloatArray = np.where(covered >= LEAST_COVERED, (fund_vol**2 - own) / (whole - own), np.nan)
    return found


def weighted_vol(member_vols: FloatArray, weights: FloatArray) -> FloatArray:
    """Weighted mean volatility of the members, shape (sessions,); NaN where more than a tenth of the weight is missing."""
    known = np.isfinite(member_vols)
    w = np.where(known, weights[:, None], 0.0)
    total = w.sum(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = (w * np.where(known, member_vols, 0.0)).sum(axis=0) / total
    return np.where(total / weights.sum() >= LEAST_COVERED, mean, np.nan)


def return_correlations(close: FloatArray, least: int = 42) -> FloatArray:
    """Correlation of daily log returns between names, shape (names, names).

    `close` has shape (names, sessions). Pairwise over the sessions both have; NaN with fewer than `least` of them, and where a
    name did not move.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        returns = np.diff(np.log(close), axis=1)
    seen = np.isfinite(returns)
    names, sessions = returns.shape
    whole = seen.all(axis=1)
    if whole.all() and sessions >= least:
        return _complete(returns)
    found = np.full((names, names), np.nan)
    if sessions >= least:
        # A missing return of others' is nothing to those that have them all.
        found[np.ix_(whole, whole)] = _complete(returns[whole])
    gaps = np.flatnonzero(~whole)
    if gaps.size:
        rows = _pairwise(np.where(seen, returns, 0.0), seen.astype(np.float64), gaps, least)
        found[gaps], found[:, gaps] = rows, rows.T
    return found


def _complete(returns: FloatArray) -> FloatArray:
    away: FloatArray = returns - returns.mean(axis=1, keepdims=True)
    with np.errstate(invalid="ignore", divide="ignore"):
        away /= np.sqrt(np.einsum("ij,ij->i", away, away))[:, None]
    found: FloatArray = away @ away.T
    return np.clip(found, -1, 1, out=found)


def _pairwise(returns: FloatArray, seen: FloatArray, rows: IntArray, least: int) -> FloatArray:
    """Some rows against all: each pair over what both have. `returns` are zero where not `seen`."""
    x, here = returns[rows], seen[rows]
    with np.errstate(invalid="ignore", divide="ignore"):
        count = here @ seen.T
        mean, other_mean = x @ seen.T / count, here @ returns.T / count
        variance = (x * x) @ seen.T / count - mean**2
        other_variance = here @ (returns * returns).T / count - other_mean**2
        covariance = x @ returns.T / count - mean * other_mean
        found: FloatArray = covariance / np.sqrt(variance * other_variance)
    return np.where(count >= least, np.clip(found, -1, 1), np.nan)
