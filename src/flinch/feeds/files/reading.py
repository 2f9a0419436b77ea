"""Reading a table out of a file, some rows at a time, whatever its size: text of any usual shape, or Parquet."""

from __future__ import annotations

import codecs
import csv
import gzip
import io
import stat
import zipfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO, NamedTuple, cast

import numpy as np
import polars as pl
from backports import zstd
from numpy.typing import NDArray

from flinch.errors import FlinchError

_BLOCK = 4 << 20
_LONGEST_LINE = 1 << 20
_MOST_COLUMNS = 400
_AT_ONCE = 250_000
_SEPARATORS = ",;\t|"
_BOMB = 1_000
"""More than so many times its own size no honest file unpacks to."""
_HONEST = 1 << 30


class BadFile(FlinchError):
    """A file cannot be read as a table; the message says what to do."""

    status, kind = 422, "bad_file"

    def __init__(self, message: str, where: str | None = None) -> None:
        super().__init__(message)
        self.where = where


class Batch(NamedTuple):
    """Some rows of a table: the line (or row) that each stands in, their cells, and which cannot be read, with the reason."""

    line: NDArray[np.int64]
    cells: pl.DataFrame
    reason: pl.Series


class Table(NamedTuple):
    """A file that can be read as a table, from its start as often as wanted; `typed` is one whose cells have types."""

    path: Path
    columns: list[str]
    typed: bool
    separator: str
    encoding: str
    head: int

    def batches(self) -> Iterator[Batch]:
        """All rows in order. Raises BadFile."""
        return _parquet_batches(self) if self.typed else _text_batches(self)


def open_table(path: Path) -> Table:
    """Find out how a file is to be read. Raises BadFile."""
    status = path.lstat()
    if not stat.S_ISREG(status.st_mode):
        what = (
            "a folder"
            if stat.S_ISDIR(status.st_mode)
            else "a link"
            if stat.S_ISLNK(status.st_mode)
            else "no plain file"
        )
        raise BadFile(f"{path.name} is {what}: give a file of rows.")
    if path.suffix.lower() in (".parquet", ".pq"):
        return _open_parquet(path)
    return _open_text(path)


# -- Parquet ----------------------------------------------------------------------------------------------------


def _open_parquet(path: Path) -> Table:
    try:
        schema = pl.scan_parquet(path).collect_schema()
    except (pl.exceptions.PolarsError, OSError) as error:
        raise BadFile(f"{path.name} is not Parquet, or only a part of it: {_short(error)}") from None
    columns = _sound_columns(path, schema.names())
    return Table(path, columns, True, "", "", 0)


def _parquet_batches(table: Table) -> Iterator[Batch]:
    scan = pl.scan_parquet(table.path)
    first = 0
    while True:
        try:
            cells = scan.slice(first, _AT_ONCE).collect()
        except (pl.exceptions.PolarsError, OSError) as error:
            raise BadFile(f"{table.path.name} ends in the middle: {_short(error)}", f"row {first + 1}") from None
        if not cells.height:
            return
        cells.columns = table.columns
        line = np.arange(first + 1, first + 1 + cells.height)
        yield Batch(line, cells, pl.Series("reason", [None], pl.String).new_from_index(0, cells.height))
        first += cells.height


# -- text ----------------------------------------------------------------------------------------------------


def _open_text(path: Path) -> Table:
    with _unpacked(path) as file:
        start = file.read(1 << 16)
    if not start:
        raise BadFile(f"{path.name} is empty.")
    encoding = _encoding(start)
    head = codecs.getincrementaldecoder(encoding)("replace").decode(start)
    if "\0" in head:
        raise BadFile(f"{path.name} is no text: give CSV (UTF-8, UTF-16 or Latin-1) or Parquet.")
    lines = head.splitlines()
    header = next((n for n, line in enumerate(lines) if line.strip() and not line.startswith("#")), None)
    if header is None or len(lines[header]) > _LONGEST_LINE:
        raise BadFile(f"{path.name} has no line of column names.", "line 1")
    separator = max(_SEPARATORS, key=lambda one: (lines[header].count(one), -_SEPARATORS.index(one)))
    names = next(csv.reader([lines[header]], delimiter=separator))
    return Table(path, _sound_columns(path, names), False, separator, encoding, header + 1)


def _text_batches(table: Table) -> Iterator[Batch]:
    read = table.head
    for text in _blocks(table):
        lines = text.split("\n")
        lines = lines[:-1] if lines[-1] == "" else lines
        numbers = np.arange(read + 1, read + 1 + len(lines))
        read += len(lines)
        if table.separator != '"' and '"' in text:
            yield _quoted(table, lines, numbers)
        else:
            yield _plain(table, lines, numbers)


def _plain(table: Table, lines: Sequence[str], numbers: NDArray[np.int64]) -> Batch:
    """Rows without a quote: cells lie between separators."""
    there = pl.Series("line", lines).str.strip_chars_end("\r")
    kept = (there.str.strip_chars() != "").to_numpy()
    there, numbers = there.filter(pl.Series(kept)), numbers[kept]
    width = len(table.columns)
    cells = there.str.split(table.separator)
    count = cells.list.len()
    frame = pl.DataFrame({name: cells.list.get(n, null_on_oob=True) for n, name in enumerate(table.columns)})
    return Batch(numbers, frame, _ragged(count, width))


def _quoted(table: Table, lines: Sequence[str], numbers: NDArray[np.int64]) -> Batch:
    """Rows that may have a separator or an end of line within quotes."""
    rows, at, reader = [], [], csv.reader((f"{line}\n" for line in lines), delimiter=table.separator)
    before = 0
    try:
        for row in reader:
            if row:
                rows.append(row)
                at.append(int(numbers[before]))
            before = reader.line_num
    except csv.Error as error:
        raise BadFile(
            f"{table.path.name} cannot be read: {_short(error)}", f"line {numbers[min(before, len(lines) - 1)]}"
        ) from None
    width = len(table.columns)
    columns = {name: [row[n] if n < len(row) else None for row in rows] for n, name in enumerate(table.columns)}
    frame = pl.DataFrame(columns, dict.fromkeys(table.columns, pl.String))
    return Batch(np.array(at, np.int64), frame, _ragged(pl.Series([len(row) for row in rows], dtype=pl.UInt32), width))


def _ragged(count: pl.Series, width: int) -> pl.Series:
    words = pl.format("the row has {} cells, the header {}", pl.col("n"), pl.lit(width))
    return pl.DataFrame({"n": count}).select(pl.when(pl.col("n") != width).then(words).alias("reason"))["reason"]


def _blocks(table: Table) -> Iterator[str]:
    """The text after the header, in pieces that end where a row does."""
    decoder = codecs.getincrementaldecoder(table.encoding)("strict")
    left, read, skipped = "", 0, 0
    with _unpacked(table.path) as file:
        while True:
            block = file.read(_BLOCK)
            read += len(block)
            _require_honest(table.path, read)
            try:
                left += decoder.decode(block, final=not block)
            except UnicodeDecodeError:
                raise BadFile(
                    f"{table.path.name} begins as {table.encoding} and is not all of it. Save it as UTF-8.",
                    f"byte {read - len(block)}",
                ) from None
            while skipped < table.head and "\n" in left:
                left = left[left.index("\n") + 1 :]
                skipped += 1
            if not block:
                if left and skipped >= table.head:
                    yield left
                return
            if skipped < table.head:
                continue
            end = left.rfind("\n") + 1
            # Within quotes an end of line is not one of the row.
            while end and left.count('"', 0, end) % 2:
                end = left.rfind("\n", 0, end - 1) + 1
            if not end and len(left) > _LONGEST_LINE:
                raise BadFile(
                    f"A row of {table.path.name} is longer than a million characters. Is it text with a row a line?",
                    f"byte {read}",
                )
            if end:
                yield left[:end]
                left = left[end:]


@contextmanager
def _unpacked(path: Path) -> Iterator[IO[bytes]]:
    """A file's bytes, those within when it is packed. What is wrong with the packing becomes BadFile."""
    try:
        with path.open("rb") as plain:
            magic = plain.read(4)
        if magic[:2] == b"\x1f\x8b":
            with gzip.open(path) as packed:
                yield cast(IO[bytes], packed)
        elif magic == b"\x28\xb5\x2f\xfd":
            with zstd.open(path) as unpacked:
                yield cast(IO[bytes], unpacked)
        elif magic == b"PK\x03\x04":
            with zipfile.ZipFile(path) as archive:
                inside = [
                    one for one in archive.infolist() if not one.is_dir() and not one.filename.startswith("__MACOSX")
                ]
                if len(inside) != 1:
                    raise BadFile(
                        f"{path.name} holds {len(inside)} files: give one of rows, or unpack it into a folder."
                    )
                with archive.open(inside[0]) as packed:
                    yield packed
        else:
            with path.open("rb") as plain:
                yield plain
    except (EOFError, gzip.BadGzipFile, zipfile.BadZipFile, zstd.ZstdError) as error:
        raise BadFile(f"{path.name} is packed, and broken or only a part: {_short(error)}") from None
    except RuntimeError as error:
        raise BadFile(f"{path.name} cannot be unpacked: {_short(error)}") from None


def _require_honest(path: Path, read: int) -> None:
    if read > _HONEST and read > _BOMB * path.stat().st_size:
        raise BadFile(
            f"{path.name} unpacks to more than {_BOMB} times its size: no file of rows does. Nothing was read."
        )


def _encoding(start: bytes) -> str:
    if start.startswith(codecs.BOM_UTF8):
        return "utf-8-sig"
    if start.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-16"
    try:
        # What begins in the middle of a character at the end is not wrong.
        codecs.getincrementaldecoder("utf-8")("strict").decode(start)
    except UnicodeDecodeError:
        return "latin-1"
    return "utf-8"


def _sound_columns(path: Path, names: Sequence[str]) -> list[str]:
    columns = [name.strip().lstrip("\ufeff")[:120] for name in names]
    if len(columns) > _MOST_COLUMNS:
        raise BadFile(f"{path.name} has {len(columns)} columns; {_MOST_COLUMNS} are read at most.", "line 1")
    if not any(columns):
        raise BadFile(f"{path.name} has no column names in its first line.", "line 1")
    seen: dict[str, int] = {}
    for place, name in enumerate(columns):
        if name and name in seen:
            raise BadFile(
                f"Two columns of {path.name} are called {name[:40]!r}: give each its own name.", f"column {place + 1}"
            )
        seen[name] = place
    return [name or f"column {place + 1}" for place, name in enumerate(columns)]


def _short(error: BaseException) -> str:
    return str(error).split("\n")[0][:160]


def as_lines(columns: Sequence[str], rows: Sequence[Sequence[object]]) -> str:
    """Rows as CSV text, for those that are handed back."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(columns)
    writer.writerows(rows)
    return out.getvalue()
