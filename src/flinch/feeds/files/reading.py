"""Reading a table out of a file, some rows at a time, whatever its size: text of any usual shape, Parquet, a workbook's sheet, a
calendar."""

from __future__ import annotations

import codecs
import csv
import gzip
import io
import itertools
import stat
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Literal, NamedTuple, cast

import numpy as np
import polars as pl
from backports import zstd
from numpy.typing import NDArray

from flinch.feeds.files import calendar_file, sheets
from flinch.feeds.files.errors import BadFile, short
from flinch.feeds.files.kinds import KINDS
from flinch.feeds.files.matching import named_kind
from flinch.feeds.files.reasons import none_of
from flinch.feeds.files.wide import Wide, unfolded, wide_columns

_BLOCK = 4 << 20
_LONGEST_LINE = 1 << 20
_MOST_COLUMNS = 400
_AT_ONCE, _ROWS = 250_000, 50_000
"""Rows that are read together: of Parquet, and of text with quotes."""
_ENDINGS = (".csv", ".tsv", ".txt", ".parquet", ".pq", ".zip", ".gz", ".zst", *sheets.ENDINGS, *calendar_file.ENDINGS)
_SEPARATORS = ",;\t|"
_BOMB = 1_000
"""More than so many times its own size no honest file unpacks to."""
_HONEST = 1 << 30


class Batch(NamedTuple):
    """Some rows of a table: the line (or row) that each stands in, their cells, and which cannot be read, with the reason."""

    line: NDArray[np.int64]
    cells: pl.DataFrame
    reason: pl.Series


Form = Literal["text", "parquet", "sheet", "calendar"]


class Table(NamedTuple):
    """A file that can be read as a table, from its start as often as wanted. `head` is how many lines come before the first row
    (of a sheet: rows); `sheet` is the one that is read of a workbook."""

    path: Path
    columns: list[str]
    form: Form
    separator: str = ""
    encoding: str = ""
    head: int = 0
    sheet: str = ""
    wide: Wide | None = None

    def batches(self) -> Iterator[Batch]:
        """All rows in order; of one that is `wide` those that are made of its own. Raises BadFile."""
        if self.wide is not None:
            return _unfolded_batches(self.wide, self._replace(wide=None, columns=self.wide.theirs))
        if self.form == "parquet":
            return _parquet_batches(self)
        return _text_batches(self) if self.form == "text" else _listed_batches(self)


def files_of_rows(folder: Path) -> list[Path]:
    """Files of a folder whose names end as those of files of rows do, by name; hidden ones are left out."""
    named = (path for path in folder.iterdir() if path.name.lower().endswith(_ENDINGS) and path.name[0] != ".")
    return sorted(path for path in named if path.is_file())


def open_table(path: Path, kind: str | None = None) -> Table:
    """Find out how a file is to be read; of a workbook the sheet that is called as the kind that is said or that
    the file is named after, else the first one. Raises BadFile."""
    try:
        status = path.lstat()
    except OSError as error:
        raise BadFile(f"{path} cannot be read: {error.strerror}.") from None
    if not stat.S_ISREG(status.st_mode):
        what = {stat.S_IFDIR: "a folder", stat.S_IFLNK: "a link"}.get(stat.S_IFMT(status.st_mode), "no plain file")
        raise BadFile(f"{path.name} is {what}: give a file of rows.")
    ending = path.suffix.lower()
    if ending in calendar_file.ENDINGS:
        return Table(path, calendar_file.COLUMNS, "calendar")
    if ending in (".parquet", ".pq"):
        table = _open_parquet(path)
    elif ending in sheets.ENDINGS:
        table = _open_sheet(path, kind)
    else:
        table = _open_text(path)
    wide = wide_columns(table.columns)
    return table if wide is None else table._replace(wide=wide, columns=wide.columns)


def _unfolded_batches(wide: Wide, table: Table) -> Iterator[Batch]:
    for batch in table.batches():
        cells, place = unfolded(wide, batch.cells)
        yield Batch(batch.line[place], cells, batch.reason.gather(place))


def kinds_within(path: Path) -> list[str]:
    """The kinds that sheets of a workbook are called as, where there are several; none for any other file. Raises BadFile."""
    if path.suffix.lower() not in sheets.ENDINGS:
        return []
    words = [sheets.kind_word(title) for title in sheets.sheet_names(path)]
    found = [kind for kind in KINDS if kind in words]
    return found if len(found) > 1 else []


# -- sheets and calendars ----------------------------------------------------------------------------------------


def _open_sheet(path: Path, kind: str | None) -> Table:
    titles = sheets.sheet_names(path)
    if not titles:
        raise BadFile(f"{path.name} has no sheet.")
    wanted = kind or named_kind(path)
    sheet = next((title for title in titles if sheets.kind_word(title) == wanted), titles[0])
    for number, cells in sheets.sheet_rows(path, sheet, _MOST_COLUMNS):
        if not cells[0].startswith("#"):
            while cells and not cells[-1]:
                cells.pop()
            return Table(path, _sound_columns(path, cells), "sheet", head=number, sheet=sheet)
    raise BadFile(f"The sheet {sheet[:40]} of {path.name} has no row of column names.", "row 1")


def _listed_batches(table: Table) -> Iterator[Batch]:
    """Rows that come as lists of text."""
    rows = (
        sheets.sheet_rows(table.path, table.sheet, _MOST_COLUMNS)
        if table.form == "sheet"
        else calendar_file.event_rows(table.path)
    )
    wanted = ((number, cells) for number, cells in rows if number > table.head)
    width = len(table.columns)
    while listed := list(itertools.islice(wanted, _ROWS)):
        # Of a sheet all rows are as wide as the widest.
        counts = [max((n + 1 for n, cell in enumerate(cells) if cell), default=0) for _, cells in listed]
        columns = {
            name: [cells[n] if n < len(cells) else "" for _, cells in listed] for n, name in enumerate(table.columns)
        }
        reason = _ragged(pl.Series([max(count, width) for count in counts], dtype=pl.UInt32), width)
        frame = pl.DataFrame(columns, dict.fromkeys(table.columns, pl.String))
        yield Batch(np.array([number for number, _ in listed], np.int64), frame, reason)


# -- Parquet ----------------------------------------------------------------------------------------------------


def _open_parquet(path: Path) -> Table:
    try:
        schema = pl.scan_parquet(path).collect_schema()
    except (pl.exceptions.PolarsError, OSError) as error:
        raise BadFile(f"{path.name} is not Parquet, or only a part of it: {short(error)}") from None
    columns = _sound_columns(path, schema.names())
    return Table(path, columns, "parquet")


def _parquet_batches(table: Table) -> Iterator[Batch]:
    scan = pl.scan_parquet(table.path)
    first = 0
    while True:
        try:
            cells = scan.slice(first, _AT_ONCE).collect()
        except (pl.exceptions.PolarsError, OSError) as error:
            raise BadFile(f"{table.path.name} ends in the middle: {short(error)}", f"row {first + 1}") from None
        if not cells.height:
            return
        cells.columns = table.columns
        line = np.arange(first + 1, first + 1 + cells.height)
        yield Batch(line, cells, none_of(cells.height))
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
    lines = [line.rstrip("\r") for line in head.split("\n")]
    header = next((n for n, line in enumerate(lines) if line.strip() and not line.startswith("#")), None)
    if header is None or len(lines[header]) > _LONGEST_LINE:
        raise BadFile(f"{path.name} has no line of column names.", "line 1")
    separator = max(_SEPARATORS, key=lambda one: (lines[header].count(one), -_SEPARATORS.index(one)))
    names = next(csv.reader([lines[header]], delimiter=separator))
    return Table(path, _sound_columns(path, names), "text", separator, encoding, header + 1)


def _text_batches(table: Table) -> Iterator[Batch]:
    read = table.head
    blocks = _blocks(table)
    for text in blocks:
        if '"' in text:
            # From the first quote on rows are told apart by who knows what may stand within quotes.
            yield from _quoted(table, itertools.chain.from_iterable(map(_lines, itertools.chain([text], blocks))), read)
            return
        count = text.count("\n") + (not text.endswith("\n"))
        frame = _regular(table, text, count)
        numbers = np.arange(read + 1, read + 1 + count)
        yield _plain(table, _lines(text), numbers) if frame is None else Batch(numbers, frame, none_of(count))
        read += count


def _lines(text: str) -> list[str]:
    """Lines, each with its end."""
    *whole, last = text.split("\n")
    return [*[f"{line}\n" for line in whole], *([last] if last else [])]


def _plain(table: Table, lines: Sequence[str], numbers: NDArray[np.int64]) -> Batch:
    """Rows without a quote: cells lie between separators."""
    there = pl.Series("line", lines).str.strip_chars_end("\r\n")
    kept = (there.str.strip_chars() != "").to_numpy()
    there, numbers = there.filter(pl.Series(kept)), numbers[kept]
    cells = there.str.split(table.separator)
    frame = pl.DataFrame({name: cells.list.get(n, null_on_oob=True) for n, name in enumerate(table.columns)})
    return Batch(numbers, frame, _ragged(cells.list.len(), len(table.columns)))


def _regular(table: Table, text: str, count: int) -> pl.DataFrame | None:
    """The cells of rows that all have as many as the header, read at once; None where one has not, or is blank."""
    plain, width = text.replace("\r\n", "\n"), len(table.columns)
    if width == 1 or "\r" in plain or plain.count(table.separator) != count * (width - 1):
        return None
    try:
        frame = pl.read_csv(
            io.BytesIO(plain.encode()),
            has_header=False,
            new_columns=table.columns,
            separator=table.separator,
            quote_char=None,
            infer_schema=False,
            empty_string_is_null=False,
        )
    except pl.exceptions.PolarsError:
        return None
    return frame if frame.shape == (count, width) else None


def _quoted(table: Table, lines: Iterator[str], read: int) -> Iterator[Batch]:
    """Rows that may have a separator or an end of line within quotes, from the line after `read` on."""
    reader, before = csv.reader(lines, delimiter=table.separator), 0
    while True:
        rows: list[list[str]] = []
        at: list[int] = []
        try:
            for row in reader:
                if row:
                    rows.append(row)
                    at.append(read + before + 1)
                before = reader.line_num
                if len(rows) == _ROWS:
                    break
        except csv.Error as error:
            line = f"line {read + before + 1}"
            raise BadFile(f"{table.path.name} cannot be read: {short(error)}. Is a quote left open?", line) from None
        if not rows:
            return
        columns = {name: [row[n] if n < len(row) else None for row in rows] for n, name in enumerate(table.columns)}
        counts = pl.Series([len(row) for row in rows], dtype=pl.UInt32)
        frame = pl.DataFrame(columns, dict.fromkeys(table.columns, pl.String))
        yield Batch(np.array(at, np.int64), frame, _ragged(counts, len(table.columns)))


def _ragged(count: pl.Series, width: int) -> pl.Series:
    words = pl.format("the row has {} cells, the header {}", pl.col("n"), pl.lit(width))
    return pl.DataFrame({"n": count}).select(pl.when(pl.col("n") != width).then(words).alias("reason"))["reason"]


def _blocks(table: Table) -> Iterator[str]:
    """What comes after the header, whole lines at a time."""
    decoder = codecs.getincrementaldecoder(table.encoding)("strict")
    left, read, skip = "", 0, table.head
    with _unpacked(table.path) as file:
        while block := file.read(_BLOCK):
            read += len(block)
            _require_honest(table.path, read)
            text = left + _decoded(table, decoder, block, read)
            end = text.rfind("\n") + 1
            text, left = text[:end], text[end:]
            if len(left) > _LONGEST_LINE:
                raise BadFile(
                    f"A line of {table.path.name} is longer than a million characters. Is it text with a row a line?",
                    f"byte {read}",
                )
            while skip and text:
                text, skip = text[text.index("\n") + 1 :], skip - 1
            if text:
                yield text
    left += _decoded(table, decoder, b"", read)
    if left and not skip:
        yield left


def _decoded(table: Table, decoder: codecs.IncrementalDecoder, block: bytes, read: int) -> str:
    try:
        return decoder.decode(block, final=not block)
    except UnicodeDecodeError:
        raise BadFile(
            f"{table.path.name} begins as {table.encoding} and is not all of it. Save it as UTF-8.",
            f"byte {read - len(block)}",
        ) from None


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
    except PermissionError:
        raise BadFile(f"{path.name} may not be read by who runs Flinch.") from None
    except (EOFError, gzip.BadGzipFile, zipfile.BadZipFile, zlib.error, zstd.ZstdError) as error:
        raise BadFile(f"{path.name} is packed, and broken or only a part: {short(error)}") from None
    except RuntimeError as error:
        raise BadFile(f"{path.name} cannot be unpacked: {short(error)}") from None


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
