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
FINEST, FINER = 10_000, 100_000_000
"""Parts of a unit in which prices are kept, and those that are finer."""
_LARGEST = 1e7


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


def packed_prices(values: NDArray[np.float64]) -> NDArray[np.int64]:
    """Prices as whole ten-thousandths, -1 where missing, and one that is finer as -2 less its hundred-millionths.

    Eight bytes each, of which the upper ones are alike and take no room. Raises ValueError for one that is negative or finer
    still.
    """
    known = np.isfinite(values)
    plain = np.where(known, values, 0.0)
    if (plain < 0).any():
        raise ValueError(f"a price must not be negative; this one is {plain[plain < 0][0]!r}")
    out = np.where(known, np.round(plain * FINEST), -1.0)
    fine = ~_near(plain, FINEST)
    if fine.any():
        if not can_be_packed(plain).all():
            raise ValueError(
                f"a price must have at most eight decimals; this one is {plain[~can_be_packed(plain)][0]!r}"
            )
        out[fine] = -2 - np.round(plain[fine] * FINER)
    return out.astype(np.int64)


def _near(values: NDArray[np.float64], parts: int) -> NDArray[np.bool_]:
    """Which values are a whole number of parts, but for what arithmetic leaves."""
    scaled = values * parts
    near: NDArray[np.bool_] = np.abs(scaled - np.round(scaled)) <= 1e-5 + 1e-15 * np.abs(scaled)
    return near


def unpacked_prices(values: NDArray[np.int64]) -> NDArray[np.float64]:
    """The prices that `packed_prices` was given."""
    prices = np.where(values < 0, np.nan, values / FINEST)
    fine = values <= -2
    if fine.any():
        prices[fine] = (-2 - values[fine]) / FINER
    return prices


def can_be_packed(values: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which prices `packed_prices` takes; missing ones are."""
    plain = np.where(np.isfinite(values), values, 0.0)
    sound: NDArray[np.bool_] = (plain >= 0) & (plain < _LARGEST) & (_near(plain, FINEST) | _near(plain, FINER))
    return sound
