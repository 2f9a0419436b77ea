"""Splitting element-wise work over threads."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.arrays import (
    broadcast_flat,
    group_bounds,
    group_sums,
    over_groups,
    run_in_chunks,
    shaped,
    writable,
)


@pytest.mark.parametrize("size", [0, 1, 65_535, 65_536, 65_537, 300_001])
def test_chunks_cover_every_element_once(size):
    seen = np.zeros(size)

    def kernel(values, out):
        out += values

    run_in_chunks(kernel, [np.arange(size, dtype=float)], [seen])
    assert np.array_equal(seen, np.arange(size))


def test_an_error_in_a_chunk_is_not_swallowed():
    def kernel(values, out):
        raise ArithmeticError("bad slice")

    with pytest.raises(ArithmeticError, match="bad slice"):
        run_in_chunks(kernel, [np.zeros(200_000)], [np.zeros(200_000)])


def test_broadcasting_never_hands_a_kernel_something_it_cannot_take():
    frozen = np.arange(3.0)
    frozen.flags.writeable = False
    flat, shape = broadcast_flat(frozen, 2, [[1], [4]], np.arange(6).reshape(3, 2).T)
    assert shape == (2, 3)
    for values in flat:
        assert values.dtype == np.float64
        assert values.flags.c_contiguous
        assert values.flags.writeable
    assert flat[3].tolist() == [0, 2, 4, 1, 3, 5]
    assert shaped(flat[0], shape).shape == (2, 3)


def test_shapes_that_do_not_fit_are_refused():
    with pytest.raises(ValueError, match="broadcast"):
        broadcast_flat(np.zeros(3), np.zeros(4))


@given(st.lists(st.integers(0, 6), max_size=40), st.integers(1, 9))
def test_groups_are_summed_like_one_by_one(places, groups):
    group = np.sort(np.array([place % groups for place in places], dtype=np.int64))
    values = np.arange(group.size, dtype=float) + 0.5
    bounds = group_bounds(group, groups)
    assert np.diff(bounds).tolist() == np.bincount(group, minlength=groups).tolist()
    np.testing.assert_allclose(group_sums(values, bounds), np.bincount(group, values, groups))


def test_groups_out_of_order_are_refused():
    with pytest.raises(ValueError, match="in order"):
        group_bounds(np.array([1, 0], dtype=np.int64), 2)


@pytest.mark.parametrize("rows", [12, 40_000])
def test_ranges_of_groups_cover_every_group_once(rows):
    group = np.sort(np.random.default_rng(0).integers(0, 500, rows))
    seen = np.zeros(500)

    def kernel(first: int, last: int) -> None:
        seen[first:last] += 1

    over_groups(kernel, group_bounds(group, 500))
    assert seen.tolist() == [1] * 500


def test_columns_of_a_table_are_made_writable_and_others_are_not_copied():
    frozen = np.arange(4.0)
    frozen.flags.writeable = False
    assert writable(frozen).flags.writeable
    own = np.arange(4.0)
    assert writable(own) is own
    assert writable([1, 2]).dtype == np.float64
