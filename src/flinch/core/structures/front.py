"""Which candidates no other beats, an order by weights, and lists that do not say the same thing twice."""

from __future__ import annotations

from typing import Any

import numpy as np
import polars as pl

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.compiled import njit
from flinch.core.interrupt import checkpoint

_AT_ONCE, _STRONG = 4_096, 24


@njit(cache=True, nogil=True)
def _unbeaten(axes: Any, begin: Any, end: Any, front: Any, size: Any) -> Any:
    """Compare some candidates with those of the front so far; whoever beats another comes before it. How many it is then."""
    for i in range(begin, end):
        beaten = False
        for j in range(size):
            other = front[j]
            no_worse, better = True, False
            for k in range(axes.shape[1]):
                if axes[other, k] < axes[i, k]:
                    no_worse = False
                    break
                if axes[other, k] > axes[i, k]:
                    better = True
            if no_worse and better:
                beaten = True
                break
        if not beaten:
            front[size] = i
            size += 1
    return size


def front(axes: FloatArray) -> BoolArray:
    """The candidates that no other beats on all axes (Pareto 1906).

    Parameters
    ----------
    axes
        Shape (candidates, axes); more is better on every axis. A candidate with a missing value is on no front.

    Returns
    -------
    Shape (candidates,). One beats another when it is nowhere worse and somewhere better; equals do not beat each other.
    """
    known = np.flatnonzero(~np.isnan(axes).any(axis=1))
    keep = np.zeros(axes.shape[0], dtype=bool)
    if not known.size or axes.shape[1] == 0:
        return keep
    values = np.ascontiguousarray(axes[known], dtype=np.float64)
    keep[known[_of_two(values) if values.shape[1] == 2 else _of_many(values)]] = True
    return keep


def _of_two(values: FloatArray) -> IntArray:
    """By the first axis one is beaten by a higher second value before it, or by an equal one of a higher first."""
    order = np.argsort(-values[:, 0])
    first, second = values[order, 0], values[order, 1]
    starts = np.concatenate([[True], first[1:] != first[:-1]])
    best_of_group = np.maximum.reduceat(second, np.flatnonzero(starts))
    best_before = np.concatenate([[-np.inf], np.maximum.accumulate(best_of_group)[:-1]])
    group = np.cumsum(starts) - 1
    at_best = second == best_of_group[group]
    found: IntArray = order[at_best & ((second > best_before[group]) | (group == 0))]
    return found


def _of_many(values: FloatArray) -> IntArray:
    """Those that a few strong ones do not beat, in an order in which whoever beats another comes first, each compared with
    those kept so far."""
    left = np.arange(values.shape[0])
    with np.errstate(invalid="ignore", over="ignore"):
        strength = np.nan_to_num((values - values.mean(axis=0)) / np.ptp(values, axis=0)).sum(axis=1)
    strong = values[np.argpartition(-strength, min(_STRONG, strength.size - 1))[:_STRONG]]
    for one in strong:
        here = values[left]
        left = left[(here > one).any(axis=1) | (here == one).all(axis=1)]
    rest = values[left]
    # Whoever beats another is no lower on any axis, so it comes first by the first axis, or by a later one when those are equal.
    order = np.lexsort(tuple(-rest[:, k] for k in range(rest.shape[1] - 1, -1, -1)))
    rest = np.ascontiguousarray(rest[order])
    found, size = np.empty(order.size, np.int64), 0
    for begin in range(0, order.size, _AT_ONCE):
        checkpoint()
        size = _unbeaten(rest, begin, min(begin + _AT_ONCE, order.size), found, size)
    kept: IntArray = left[order[found[:size]]]
    return kept


def percentiles(values: FloatArray) -> FloatArray:
    """Standing of each among the known values, 0 to 1, shape (candidates,): the share below it and half of those equal to it;
    NaN where missing."""
    out = np.full(values.shape, np.nan)
    known = ~np.isnan(values)
    if known.any():
        out[known] = (pl.Series(values[known]).rank("average").to_numpy() - 0.5) / known.sum()
    return out


def weighed(axes: FloatArray, weights: FloatArray) -> FloatArray:
    """Order by several axes at once: the mean of the percentiles on them.

    Parameters
    ----------
    axes
        Shape (candidates, axes); more is better.
    weights
        Above zero, shape (axes,).

    Returns
    -------
    0 to 1, shape (candidates,); NaN where an axis with a weight is missing.
    """
    used = np.flatnonzero(weights > 0)
    if not used.size:
        return np.full(axes.shape[0], np.nan)
    standing = np.stack([percentiles(axes[:, k]) for k in used], axis=1)
    score: FloatArray = standing @ weights[used] / weights[used].sum()
    return score


@njit(cache=True, nogil=True)
def _spread_out(group: Any, alike: Any, most: int, keep: Any) -> None:
    taken = np.zeros(alike.shape[0], np.int64)
    for i in range(group.size):
        near = 0
        for other in range(alike.shape[0]):
            if taken[other] > 0 and alike[group[i], other]:
                near += taken[other]
        if near < most:
            keep[i] = True
            taken[group[i]] += 1


def spread_out(group: IntArray, most: int, alike: BoolArray | None = None) -> BoolArray:
    """Of a list in order, at most so many of a group, first come first served.

    Parameters
    ----------
    group
        Of each candidate, from 0; shape (candidates,), in the order of the list.
    most
        At least 1.
    alike
        Which groups count as one, shape (groups, groups), true on the diagonal; none: each by itself.

    Returns
    -------
    Which ones stay, shape (candidates,).
    """
    keep = np.zeros(group.size, dtype=bool)
    if group.size:
        same = np.eye(int(group.max()) + 1, dtype=bool) if alike is None else alike
        _spread_out(np.ascontiguousarray(group, np.int64), np.ascontiguousarray(same), most, keep)
    return keep


def moving_together(returns: FloatArray, least: float) -> BoolArray:
    """Which names' returns move together.

    Parameters
    ----------
    returns
        Names x sessions; a session in which one of two names has none is left out for them.
    least
        Correlation from which on they do.

    Returns
    -------
    Names x names, true on the diagonal; false where fewer than 60 sessions are shared.
    """
    known = np.isfinite(returns).astype(np.float64)
    filled = np.nan_to_num(returns)
    shared = known @ known.T
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = (filled @ known.T) / shared
        cross = (filled @ filled.T) / shared - mean * mean.T
        square = (filled * filled) @ known.T / shared - mean * mean
        correlation = cross / np.sqrt(square * square.T)
    together: BoolArray = (correlation >= least) & (shared >= 60)
    np.fill_diagonal(together, True)
    return together
