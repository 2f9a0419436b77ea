"""Array types and the few array helpers that several rooms of the core share."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from flinch.core.compiled import njit

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
BoolArray = NDArray[np.bool_]

_CHUNK = 65_536


def broadcast_flat(*values: ArrayLike) -> tuple[list[FloatArray], tuple[int, ...]]:
    """Broadcast `values` together and return them flat, contiguous and writable as float64, with the broadcast shape."""
    arrays = [np.asarray(value, dtype=np.float64) for value in values]
    shape = np.broadcast_shapes(*[array.shape for array in arrays])

    def flat(array: FloatArray) -> FloatArray:
        whole = array.shape == shape and array.flags.c_contiguous and array.flags.writeable
        return (array if whole else np.array(np.broadcast_to(array, shape))).reshape(-1)

    return [flat(array) for array in arrays], shape


def run_in_chunks(
    kernel: Callable[..., None], inputs: list[FloatArray], outputs: list[FloatArray], chunk: int = _CHUNK
) -> None:
    """Run a compiled element-wise `kernel(*inputs, *outputs)` that releases the interpreter lock, over all cores.

    Plain threads over slices rather than a compiled parallel loop: the latter may not be entered from two request
    threads at once.
    """
    size = inputs[0].size
    slices = [slice(start, min(start + chunk, size)) for start in range(0, size, chunk)]

    def run(part: slice) -> None:
        kernel(*[a[part] for a in inputs], *[a[part] for a in outputs])

    if len(slices) <= 1:
        for part in slices:
            run(part)
        return
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for _ in pool.map(run, slices):
            pass


def group_bounds(group: IntArray, groups: int) -> IntArray:
    """Where each group begins, and the end of the last, shape (groups + 1,).

    Raises
    ------
    ValueError
        When `group` is not in order.
    """
    if np.any(group[1:] < group[:-1]):
        raise ValueError("rows must be in order of their group")
    return np.searchsorted(group, np.arange(groups + 1)).astype(np.int64)


def over_groups(kernel: Callable[[int, int], None], bounds: IntArray) -> None:
    """Run `kernel(first, last)`, which releases the interpreter lock, over ranges of groups of about as many rows each, on all
    cores; `bounds` as from `group_bounds`."""
    groups, workers = bounds.size - 1, os.cpu_count() or 1
    if bounds[-1] < 10_000 or workers == 1:
        kernel(0, groups)
        return
    cuts = np.searchsorted(bounds, np.linspace(0, bounds[-1], 4 * workers + 1))
    cuts[0], cuts[-1] = 0, groups
    with ThreadPoolExecutor(workers) as pool:
        for _ in pool.map(kernel, cuts[:-1].tolist(), cuts[1:].tolist()):
            pass


def group_sums(values: FloatArray, bounds: IntArray) -> FloatArray:
    """Sum of each group's rows, zero for an empty group, shape (groups,); `bounds` as from `group_bounds`."""
    out = np.zeros(bounds.size - 1)
    filled = np.flatnonzero(np.diff(bounds))
    if filled.size:
        out[filled] = np.add.reduceat(values, bounds[filled])
    return out


def find(sorted_values: NDArray[Any], wanted: NDArray[Any]) -> IntArray:
    """Place of each wanted value among values in ascending order, -1 where it is none of them; the shape of `wanted`."""
    if not sorted_values.size:
        return np.full(wanted.shape, -1, dtype=np.int64)
    place = np.minimum(np.searchsorted(sorted_values, wanted), sorted_values.size - 1)
    return np.where(sorted_values[place] == wanted, place, -1).astype(np.int64)


def writable(values: ArrayLike) -> FloatArray:
    """As contiguous float64 that compiled code may take: columns of a table come read-only. Copied only when it must be."""
    found = np.ascontiguousarray(values, dtype=np.float64)
    return found if found.flags.writeable else found.copy()


def shaped(flat: FloatArray, shape: tuple[int, ...]) -> Any:
    """Give a flat result its broadcast shape back; a scalar call gets a float."""
    return flat.reshape(shape) if shape else float(flat[0])


@njit(cache=True, nogil=True)
def _smallest(group: Any, value: Any, row: Any, least: Any) -> None:
    for i in range(group.size):
        if value[i] < least[group[i]]:
            least[group[i]] = value[i]
            row[group[i]] = i


def smallest_rows(group: IntArray, value: FloatArray, groups: int) -> IntArray:
    """Index of the row with the smallest finite value in each group, shape (groups,); -1 where there is none.

    `group` and `value` have shape (rows,); of equal values the first counts.
    """
    row, least = np.full(groups, -1, dtype=np.int64), np.full(groups, np.inf)
    _smallest(group, value, row, least)
    return row
