"""Keeping what the process holds near what it uses: freed pages go back to the system."""

from __future__ import annotations

import contextlib
import ctypes
import os

_MMAP_THRESHOLD, _TRIM_THRESHOLD, _ARENA_MAX = -3, -1, -8


def keep_little() -> None:
    """Tell the allocators not to keep freed pages; call it before polars is imported, which reads its setting then.

    Large arrays get pages of their own, which go back when they are freed, and threads share two arenas.
    """
    os.environ.setdefault("_RJEM_MALLOC_CONF", "dirty_decay_ms:200,muzzy_decay_ms:0")
    with contextlib.suppress(OSError, AttributeError):
        library = ctypes.CDLL("libc.so.6")
        for setting, value in ((_MMAP_THRESHOLD, 1 << 23), (_TRIM_THRESHOLD, 1 << 25), (_ARENA_MAX, 2)):
            library.mallopt(setting, value)


def give_back() -> None:
    """Hand back what is free now."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").malloc_trim(0)
