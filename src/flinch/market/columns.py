"""Arrays of a version as files, mapped into memory.

A file is an array of names x sessions with one session after the other, so that whoever looks at the newest sessions reads a few
pages of each, and a later moment of the newest session shares all others with the version before.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import shutil
from collections.abc import Callable, Mapping
from contextlib import ExitStack
from functools import cache
from pathlib import Path
from typing import IO, Any

import numpy as np

from flinch.core.parsing import parsed
from flinch.store.market.state import Loaded
from flinch.store.reading import Floats

_PACKAGE = Path(__file__).resolve().parents[1]
_MADE_BY = ("core", "market", "store", "tape")


def columns_key(state: Loaded) -> str:
    """Name of the folder for what a state tells of sessions before the newest: it changes with the load, with what a load changed
    in the past, and with the code that makes the arrays."""
    return f"{state.load_id[:12]}-{state.past_version}-{_sources()}"


@cache
def _sources() -> str:
    total = hashlib.sha256()
    for part in _MADE_BY:
        for path in sorted((_PACKAGE / part).rglob("*.py")):
            total.update(path.read_bytes() + b"\0")
    return total.hexdigest()[:12]


class ColumnWriter:
    """Writes arrays into a new folder, which gets its name when all of it is there, and on the disk where it is `lasting`; use as
    a context manager."""

    def __init__(self, folder: Path, *, lasting: bool = True) -> None:
        self.folder, self._lasting = folder, lasting
        self._making = folder.with_name(f"{folder.name}.{os.getpid()}.making")

    def __enter__(self) -> ColumnWriter:
        shutil.rmtree(self._making, ignore_errors=True)
        self._making.mkdir(parents=True)
        return self

    def write(self, fields: Mapping[str, np.ndarray[Any, Any]]) -> None:
        """Whole arrays, of any shape."""
        for field, values in fields.items():
            with self._file(field) as file:
                np.save(file, np.asfortranarray(values))

    def grow(self, names: int, sessions: int) -> GrowingColumns:
        """Arrays whose sessions come some at a time."""
        return GrowingColumns(self, names, sessions)

    def read(self) -> dict[str, Floats]:
        """What was written so far, mapped."""
        return map_columns(self._making)

    def _file(self, field: str) -> IO[bytes]:
        return (self._making / f"{field}.npy").open("wb")

    def __exit__(self, failed: type[BaseException] | None, *_: object) -> None:
        if failed is None:
            for path in self._making.iterdir() if self._lasting else ():
                with path.open("rb") as file:
                    os.fsync(file.fileno())
            shutil.rmtree(self.folder, ignore_errors=True)
            self._making.rename(self.folder)
        else:
            shutil.rmtree(self._making, ignore_errors=True)


class GrowingColumns:
    """Arrays of doubles, names x sessions, that get their sessions in order; use as a context manager."""

    def __init__(self, writer: ColumnWriter, names: int, sessions: int) -> None:
        self._writer, self._shape = writer, (names, sessions)
        self._files: dict[str, IO[bytes]] = {}
        self._open = ExitStack()

    def __enter__(self) -> GrowingColumns:
        return self

    def add(self, fields: Mapping[str, Floats]) -> None:
        """The next sessions of each, names x some sessions."""
        for field, values in fields.items():
            if field not in self._files:
                self._files[field] = self._open.enter_context(self._writer._file(field))
                header = {"descr": "<f8", "fortran_order": True, "shape": self._shape}
                np.lib.format.write_array_header_1_0(self._files[field], header)
            self._files[field].write(np.ascontiguousarray(values.T).data)

    def __exit__(self, *_: object) -> None:
        self._open.close()


def map_columns(folder: Path) -> dict[str, Floats]:
    """Every array of a folder. What is written into one is this process's own and stays in memory; the files are never changed.

    Raises OSError or ValueError when the folder is not there, or not whole.
    """
    if not folder.is_dir():
        raise FileNotFoundError(folder)
    return {path.stem: np.asarray(_mapped(path)) for path in folder.glob("*.npy")}


def _mapped(path: Path) -> Floats:
    # A file says in Python's words what it has.
    mapped: Floats = parsed(lambda: np.load(path, mmap_mode="c"))
    return mapped


Arrays = dict[str, np.ndarray[Any, Any]]


def kept_arrays(place: Path | None, name: str, version: str, make: Callable[[], Arrays]) -> Arrays:
    """Large arrays that follow from a version: made once, from then on mapped from files in a folder of their own beside its
    columns; in memory where there is no place for them, or no room on the disk. Of a name one version is kept."""
    if place is None or not place.is_dir():
        return make()
    folder = place / f"{name}.{version}"
    with contextlib.suppress(OSError, ValueError):
        return map_columns(folder)
    made = make()
    try:
        with ColumnWriter(folder) as writer:
            writer.write(made)
        for other in place.glob(f"{name}.*"):
            if other != folder:
                shutil.rmtree(other, ignore_errors=True)
        return map_columns(folder)
    except (OSError, ValueError):
        return made


_OURS = re.compile(r"[0-9a-f]{12}-\d+-[0-9a-f]{12}(\.\d+\.making)?")


def forget_others(folder: Path) -> None:
    """Remove columns of earlier versions beside a folder, and nothing else. Who has them mapped keeps them."""
    for path in folder.parent.iterdir():
        if path != folder and _OURS.fullmatch(path.name):
            shutil.rmtree(path, ignore_errors=True)
