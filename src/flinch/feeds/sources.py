"""Where data come from by themselves: an interface that a package of its own can implement, and a folder that is watched.

A source is found by its name among the entry points of the group `flinch.sources`: a callable that is given what was said of it
(texts by name) and returns a `Source`. What it fetches is loaded as a file would be: checked row by row, compared with what is
there, kept in the history under the source's name, and what is fetched twice changes nothing.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import importlib.metadata
import tempfile
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Protocol

import polars as pl
from sqlalchemy import Engine

from flinch.errors import FlinchError
from flinch.feeds.files.errors import BadFile
from flinch.feeds.files.importing import Asked, Outcome, import_file
from flinch.feeds.files.kinds import KINDS
from flinch.feeds.files.matching import CannotMatch, guess_kind
from flinch.feeds.files.reading import files_of_rows, kinds_within, open_table
from flinch.feeds.files.values import Hints
from flinch.store.market.holdings import held_spans

GROUP = "flinch.sources"
Rows = pl.DataFrame | Path


class Source(Protocol):
    """Somebody who tells data."""

    @property
    def kinds(self) -> Sequence[str]:
        """Those that it has, of `flinch.feeds.files.kinds`."""

    def fetch(self, kind: str, since: dt.date | None) -> Iterable[Rows]:
        """Rows of a kind from a day on, or all of them where none is held: frames with the kind's columns (moments with a zone),
        or files as they would be loaded by hand. What is told once may be told again."""


Make = Callable[[Mapping[str, str]], Source]


class NoSuchSource(FlinchError):
    """No source of this name is installed, or it cannot be made from what was said."""

    status, kind, where = 422, "no_such_source", "source"


def find_source(name: str, said: Mapping[str, str]) -> Source:
    """A source by its name: `folder`, or one that is installed. Raises NoSuchSource."""
    installed = {one.name: one for one in importlib.metadata.entry_points(group=GROUP)}
    if name != "folder" and name not in installed:
        there = ", ".join(["folder", *sorted(installed)])
        raise NoSuchSource(f"There is no source {name[:40]!r}; there are {there}.")
    make: Make = FolderSource.made if name == "folder" else installed[name].load()
    try:
        source = make(said)
    except (KeyError, ValueError, TypeError) as error:
        raise NoSuchSource(f"The source {name} cannot be made from what was said of it: {error}.") from None
    if unknown := sorted(set(source.kinds) - KINDS.keys()):
        raise NoSuchSource(
            f"The source {name} has a kind {unknown[0]!r}, which there is not; kinds are {', '.join(KINDS)}."
        )
    return source


def fetch_all(engine: Engine, name: str, source: Source, refused: Path) -> Iterable[Outcome]:
    """Ask a source for every kind that it has, from the newest day that is held on, and load what it tells; what came of each
    part, as it comes. Refused rows go into a file a kind in the folder `refused`. Raises BadFile, CannotMatch and Busy."""
    held = held_spans(engine)
    for kind in (one for one in KINDS if one in source.kinds):
        for rows in source.fetch(kind, held[kind].last):
            yield _load(engine, Asked(Path(), kind, name, refused=refused / f"{name}-{kind}.refused.csv"), rows)


def _load(engine: Engine, asked: Asked, rows: Rows) -> Outcome:
    if isinstance(rows, Path):
        return import_file(engine, replace(asked, path=rows))
    assert asked.kind is not None
    with tempfile.TemporaryDirectory(prefix="flinch-fetch-") as folder:
        path = Path(folder) / f"{asked.kind}.parquet"
        rows.write_parquet(path)
        # Decimals, as the interface says: nothing is left to be asked.
        shares = frozenset(column.name for column in KINDS[asked.kind].columns if column.share is not None)
        return import_file(engine, replace(asked, path=path, hints=Hints(decimals=shares)))


class FolderSource:
    """A folder of files: each is told when it is new, or another one than when it was told last."""

    kinds = tuple(KINDS)

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._told: dict[tuple[Path, str], tuple[int, int]] = {}
        self._kinds: dict[Path, tuple[tuple[int, int], list[str]]] = {}

    @classmethod
    def made(cls, said: Mapping[str, str]) -> FolderSource:
        """From `path`. Raises ValueError."""
        folder = Path(said["path"])
        if not folder.is_dir():
            raise ValueError(f"{folder} is no folder")
        return cls(folder)

    def fetch(self, kind: str, since: dt.date | None) -> Iterable[Rows]:
        """Files of a kind that were not told yet."""
        for path in files_of_rows(self.folder):
            status = path.stat()
            mark = (status.st_size, status.st_mtime_ns)
            if self._told.get((path, kind)) != mark and kind in self._kinds_of(path, mark):
                yield path
                # Only when it was loaded: what was refused is told again.
                self._told[path, kind] = mark

    def _kinds_of(self, path: Path, mark: tuple[int, int]) -> list[str]:
        """The kinds that a file holds, told once while it is the same one; none where it cannot be told."""
        if path not in self._kinds or self._kinds[path][0] != mark:
            kinds: list[str] = []
            with contextlib.suppress(CannotMatch, BadFile):
                kinds = kinds_within(path) or [guess_kind(path, open_table(path).columns)]
            self._kinds[path] = mark, kinds
        return self._kinds[path][1]
