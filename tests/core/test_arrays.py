"""Splitting element-wise work over threads."""

import numpy as np
import pytest

from flinch.core.arrays import broadcast_flat, run_in_chunks, shaped


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
