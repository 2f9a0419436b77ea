"""Shelves against the kernel sum itself."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.shelves import find_shelves, find_window_shelves

H = 0.4


def smoothed(at, price, notional):
    return (notional * np.exp(-0.5 * ((np.asarray(at)[..., None] - price) / H) ** 2)).sum(axis=-1)


def plain(price, notional):
    """Maxima of the kernel sum on a fine grid, and the notional between its minima."""
    grid = np.arange(price.min() - 3 * H, price.max() + 3 * H, H / 400)
    height = smoothed(grid, price, notional)
    rise = np.diff(height)
    top = np.flatnonzero((rise[:-1] > 0) & (rise[1:] <= 0)) + 1
    bottom = np.flatnonzero((rise[:-1] <= 0) & (rise[1:] > 0)) + 1
    edges = np.concatenate([[-np.inf], [grid[b] for b in bottom if top[0] < b < top[-1]], [np.inf]])
    return grid[top], edges


rows = st.lists(st.tuples(st.integers(1000, 1900), st.integers(1, 50)), min_size=1, max_size=30)


@given(rows)
def test_shelves_are_the_maxima_of_the_kernel_sum(rows):
    price, notional = (np.array([row[i] for row in rows], float) for i in range(2))
    price /= 100
    found = find_shelves(price, notional, bandwidth=H, least_share=0.0)
    # What is in a shelf and what is in none come to all of it.
    assert found.notional.sum() == pytest.approx(notional.sum())
    assert found.share.sum() == pytest.approx(1)
    assert found.count.sum() == price.size
    assert (np.diff(found.price) > 0).all()
    assert (found.low[1:] > found.high[:-1]).all()
    tops, edges = plain(price, notional)
    near = np.abs(found.price[:, None] - tops).min(axis=1)
    slope = smoothed(found.price + 1e-4, price, notional) - smoothed(found.price - 1e-4, price, notional)
    flat = np.abs(slope) < 1e-5 * smoothed(found.price, price, notional)
    assert ((near < H / 20) | flat).all()
    if found.price.size == tops.size and np.abs(price[:, None] - edges[1:-1]).min(initial=1) > H / 10:
        place = np.searchsorted(edges, price) - 1
        expected = np.bincount(place, notional, tops.size)
        assert found.notional == pytest.approx(expected[expected > 0])


def test_two_heaps_and_a_little_by_hand():
    price = np.array([50.0, 50.1, 50.1, 54.0, 54.2, 60.0])
    notional = np.array([4e6, 1e6, 1e6, 2e6, 1.8e6, 0.2e6])
    found = find_shelves(price, notional, bandwidth=H)
    assert found.notional.tolist() == [6e6, 3.8e6]
    assert found.share.tolist() == pytest.approx([0.6, 0.38])
    assert (found.low.tolist(), found.high.tolist()) == ([50.0, 54.0], [50.1, 54.2])
    assert found.count.tolist() == [3, 2]
    assert found.price.tolist() == pytest.approx([50.033, 54.095], abs=0.01)
    every = find_shelves(price, notional, bandwidth=H, least_share=0.0)
    assert every.share.tolist() == pytest.approx([0.6, 0.38, 0.02]), "what is too small is dropped, not merged"


def test_the_least_share_is_enough():
    price, notional = np.array([50.0, 60.0]), np.array([97.0, 3.0])
    assert find_shelves(price, notional, bandwidth=H).price.size == 2
    assert find_shelves(price, np.array([97.1, 2.9]), bandwidth=H).price.size == 1


def test_nothing_has_no_shelf_and_a_wrong_bandwidth_is_refused():
    assert find_shelves(np.empty(0), np.empty(0), bandwidth=H).price.size == 0
    for bad in (0.0, -1.0, float("nan")):
        with pytest.raises(ValueError, match="above zero"):
            find_shelves(np.ones(1), np.ones(1), bandwidth=bad)


def test_prices_however_far_apart_are_shelves_of_their_own():
    price = np.array([1e9, 2.4, 2.0 + 12.8 * H, 2.0, 1e9 + 0.5 * H, 1e5])
    found = find_shelves(price, np.ones(6), bandwidth=H, least_share=0.0)
    assert found.low.tolist() == [2.0, 2.0 + 12.8 * H, 1e5, 1e9]
    assert found.count.tolist() == [2, 1, 1, 2]
    assert found.price - found.low == pytest.approx([0.2, 0.0, 0.0, 0.25 * H], abs=H / 20)
    # However much more was printed at the one: it reaches no further than its kernel.
    beside = find_shelves(np.array([50.0, 50.0 + 20 * H]), np.array([1e12, 1.0]), bandwidth=H, least_share=0.0)
    assert beside.notional.tolist() == [1e12, 1.0]


@given(st.lists(st.tuples(rows, st.sampled_from([0.2, H, 3.0, 0.0, float("nan")])), min_size=1, max_size=6))
def test_many_windows_at_once_are_each_as_alone(windows):
    price, notional = (np.array([row[i] for part, _ in windows for row in part], float) for i in range(2))
    price /= 100
    last = np.cumsum([len(part) for part, _ in windows])
    first = last - [len(part) for part, _ in windows]
    bandwidth = np.array([width for _, width in windows])
    window, found = find_window_shelves(price, notional, first, last, bandwidth)
    assert (np.diff(window) >= 0).all()
    for place in range(len(windows)):
        mine = window == place
        if not bandwidth[place] > 0:
            assert not mine.any()
            continue
        part = slice(first[place], last[place])
        alone = find_shelves(price[part], notional[part], bandwidth=bandwidth[place])
        for column, expected in zip(found, alone, strict=True):
            np.testing.assert_array_equal(column[mine], expected)
