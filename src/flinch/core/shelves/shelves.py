"""Prices where off-exchange notional piled up."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.compiled import njit

BANDWIDTH_MOVES = 0.15
"""Standard deviation of the kernel in one-day expected moves, in the application."""
LEAST_SHARE = 0.03
_STEPS = 10
_REACH = 6
"""The kernel is followed so many deviations out: beyond, it is a hundred-millionth of its height."""
_TAPS = _REACH * _STEPS
_APART = 2.0 * _TAPS + 4
"""Bursts that are further apart (in cells of the grid) know nothing of each other; what lies between is left out."""


class Shelves(NamedTuple):
    """By price, shape (shelves,): price of the maximum, notional, its share of all, the lowest and highest price that it takes,
    and how many bursts."""

    price: FloatArray
    notional: FloatArray
    share: FloatArray
    low: FloatArray
    high: FloatArray
    count: IntArray  # type: ignore[assignment]


def find_shelves(
    price: FloatArray, notional: FloatArray, *, bandwidth: float, least_share: float = LEAST_SHARE
) -> Shelves:
    """Local maxima of notional smoothed over price, each with what lies between the minima beside it.

    Parameters
    ----------
    price, notional
        Of each burst, shape (bursts,), in any order.
    bandwidth
        Standard deviation of the Gaussian kernel, in the unit of the prices.
    least_share
        Shelves with a smaller share of all notional are dropped, not merged.

    Returns
    -------
    `Shelves`; none without bursts. Smoothed on a grid of a tenth of the bandwidth, so a price is within a twentieth of it.

    Raises
    ------
    ValueError
        For a bandwidth that is not above zero.
    """
    if not bandwidth > 0:
        raise ValueError("the bandwidth of shelves must be above zero")
    window = np.zeros(1, np.int64), np.array([np.size(price)])
    return find_window_shelves(price, notional, *window, np.array([bandwidth]), least_share=least_share)[1]


def find_window_shelves(
    price: FloatArray,
    notional: FloatArray,
    first: IntArray,
    last: IntArray,
    bandwidth: FloatArray,
    *,
    least_share: float = LEAST_SHARE,
) -> tuple[IntArray, Shelves]:
    """`find_shelves` of many stretches of bursts in one pass.

    Parameters
    ----------
    price, notional
        Of each burst, shape (bursts,).
    first, last
        The first burst of each window and the one after its last, shape (windows,).
    bandwidth
        Of each window, shape (windows,); one without a number above zero has no shelves.
    least_share
        As for one.

    Returns
    -------
    The window of each shelf, shape (shelves,), and the shelves, by window and price.
    """
    size = np.where(bandwidth > 0, last - first, 0)
    room = size if least_share <= 0 else np.minimum(size, int(1 / least_share) + 1)
    begin = np.concatenate([[0], np.cumsum(room)]).astype(np.int64)
    told = np.zeros((5, begin[-1]))
    count = np.zeros(begin[-1], np.int64)
    prices, paid = np.ascontiguousarray(price, np.float64), np.ascontiguousarray(notional, np.float64)
    _each_window(prices, paid, first, first + size, bandwidth, least_share, begin, told, count)
    kept = np.flatnonzero(count)
    window = np.repeat(np.arange(size.size), room)[kept]
    peak, sums, total, low, high = told[:, kept]
    return window, Shelves(peak, sums, sums / total, low, high, count[kept])


@njit(cache=True, nogil=True, error_model="numpy")
def _each_window(
    price: Any, paid: Any, first: Any, last: Any, bandwidth: Any, least_share: float, begin: Any, told: Any, count: Any
) -> None:
    weight = np.exp(-0.5 * (np.arange(-_TAPS, _TAPS + 1) / _STEPS) ** 2)
    for window in range(first.size):
        a, b = first[window], last[window]
        total = 0.0
        for burst in range(a, b):
            total += paid[burst]
        if total > 0.0:
            order = a + np.argsort(price[a:b])
            step = bandwidth[window] / _STEPS
            at = _places(price, order, step)
            top, edge = _peaks(paid, order, at, weight)
            out, burst = begin[window], 0
            for shelf in range(top.size):
                start, sums = burst, 0.0
                while burst < order.size and (at[burst] < edge[shelf + 1] or shelf == top.size - 1):
                    sums += paid[order[burst]]
                    burst += 1
                if sums > 0.0 and sums >= least_share * total:
                    low = price[order[start]]
                    told[0, out] = low + step * (top[shelf] - at[start])
                    told[1, out], told[2, out] = sums, total
                    told[3, out], told[4, out] = low, price[order[burst - 1]]
                    count[out] = burst - start
                    out += 1


@njit(cache=True, nogil=True, error_model="numpy")
def _places(price: Any, order: Any, step: float) -> Any:
    """Where bursts stand on the grid, in order of price; wide gaps are as narrow as they may be."""
    at = np.empty(order.size)
    at[0] = _TAPS + 1.0
    for i in range(1, order.size):
        at[i] = at[i - 1] + min((price[order[i]] - price[order[i - 1]]) / step, _APART)
    return at


@njit(cache=True, nogil=True, error_model="numpy")
def _peaks(paid: Any, order: Any, at: Any, weight: Any) -> Any:
    """Maxima of the smoothed notional, and the minima between them with both ends."""
    cells = int(at[-1]) + _TAPS + 3
    heap, smooth = np.zeros(cells), np.zeros(cells)
    for i in range(order.size):
        # Between two cells, so that nothing moves by rounding.
        cell = int(at[i])
        heap[cell] += paid[order[i]] * (cell + 1 - at[i])
        heap[cell + 1] += paid[order[i]] * (at[i] - cell)
    for cell in range(cells):
        if heap[cell] > 0.0:
            for tap in range(weight.size):
                smooth[cell - _TAPS + tap] += heap[cell] * weight[tap]
    top, edge = np.empty(cells), np.empty(cells + 1)
    count, rising, start = 0, True, 0
    edge[0] = 0.0
    for cell in range(1, cells):
        if smooth[cell] == smooth[cell - 1]:
            continue
        if rising and smooth[cell] < smooth[cell - 1]:
            # A flat top's middle, moved by the parabola through the cells beside it.
            middle = 0.5 * (start + cell - 1)
            left, peak, right = smooth[start - 1], smooth[start], smooth[cell]
            bend = left - 2.0 * peak + right
            top[count] = middle + (0.5 * (left - right) / bend if start == cell - 1 else 0.0)
            count += 1
            rising = False
        elif not rising and smooth[cell] > smooth[cell - 1]:
            edge[count] = 0.5 * (start + cell - 1)
            rising = True
        start = cell
    edge[count] = cells
    return top[:count], edge[: count + 1]
