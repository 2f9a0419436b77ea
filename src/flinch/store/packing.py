"""Small tables within one value of a row: many numbers that are always read together.

Records are kept byte plane by byte plane (the first byte of every record, then the second, ...), so that what is alike lies
together, and compressed with Zstandard.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from backports import zstd
from numpy.typing import NDArray

Records = NDArray[np.void]
_LEVEL = 3
FINEST = 10_000
"""Parts of a unit in which prices are kept."""


def pack(records: Records) -> bytes:
    """Records of a packed little-endian type as bytes."""
    planes = np.ascontiguousarray(records).view(np.uint8).reshape(records.size, records.dtype.itemsize)
    return zstd.compress(planes.T.tobytes(), _LEVEL)


def unpack(layout: np.dtype[np.void], packed: bytes) -> Records:
    """The records that `pack` was given; raises ValueError when the bytes are not of that layout."""
    planes = np.frombuffer(zstd.decompress(packed), np.uint8)
    records: Records = np.ascontiguousarray(planes.reshape(layout.itemsize, -1).T).view(layout)[:, 0]
    return records


def pack_groups(owner: NDArray[np.int64], records: Records) -> tuple[NDArray[np.int64], list[bytes]]:
    """Owners, each once, and the records of each as bytes; `owner` says whose a record is, in ascending order."""
    owners, first = np.unique(owner, return_index=True)
    return owners, [pack(part) for part in np.split(records, first[1:])] if owners.size else []


def unpack_groups(layout: np.dtype[np.void], packed: Sequence[bytes]) -> tuple[NDArray[np.int64], Records]:
    """All records, and for each the place in `packed` that it comes from."""
    # Joined as bytes: records are compared field by field when they are joined as such.
    planes = [np.frombuffer(zstd.decompress(part), np.uint8).reshape(layout.itemsize, -1) for part in packed]
    place = np.repeat(np.arange(len(planes)), [part.shape[1] for part in planes])
    if not planes:
        return place, np.empty(0, layout)
    records: Records = np.ascontiguousarray(np.concatenate(planes, axis=1).T).view(layout)[:, 0]
    return place, records


def ten_thousandths(values: NDArray[np.float64]) -> NDArray[np.int64]:
    """Prices as whole ten-thousandths, -1 where missing; raises ValueError for one that is negative or finer.

    Eight bytes each, of which the upper ones are alike and take no room.
    """
    known = np.isfinite(values)
    scaled = np.where(known, values, 0.0) * 1e4
    whole = np.round(scaled)
    bad = (np.abs(scaled - whole) > 1e-3) | (whole < 0)
    if bad.any():
        raise ValueError(f"a price must have at most four decimals and not be negative; this one is {values[bad][0]!r}")
    return np.where(known, whole, -1).astype(np.int64)


def from_ten_thousandths(values: NDArray[np.int64]) -> NDArray[np.float64]:
    """The prices that `ten_thousandths` was given."""
    return np.where(values < 0, np.nan, values / 1e4)
