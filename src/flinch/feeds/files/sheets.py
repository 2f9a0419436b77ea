"""Rows of a workbook's sheet (XLSX), as text that the rest reads as it reads any. Formulas are never worked out: what counts is
the value that was kept with them."""

from __future__ import annotations

import datetime as dt
import re
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import ParseError

from flinch.feeds.files.errors import BadFile, short

ENDINGS = (".xlsx", ".xlsm")
_MOST_UNPACKED, _MOST_TEXTS = 2 << 30, 256 << 20
"""Bytes that a workbook may unpack to, and of them those of its table of texts, which is held whole."""
_SMALL, _BOMB = 64 << 20, 200
"""No workbook that is larger unpacks to so many times its own size."""


def sheet_names(path: Path) -> list[str]:
    """The sheets of a workbook in order. Raises BadFile."""
    with _opened(path) as book:
        return [sheet.title for sheet in book.worksheets]


def kind_word(title: str) -> str:
    """A sheet's name as a kind would be called."""
    return re.sub(r"[^a-z0-9]+", "_", title.strip().lower()).strip("_")


def sheet_rows(path: Path, sheet: str, most_columns: int) -> Iterator[tuple[int, list[str]]]:
    """The rows of a sheet that have any cell filled, with their numbers: cells as text, empty where there is nothing, of one
    column more than may be at most. Raises BadFile."""
    with _opened(path) as book:
        if sheet not in book.sheetnames:
            raise BadFile(f"{path.name} has no sheet called {sheet[:40]!r}.")
        page = book[sheet]
        # What a sheet says of its size need not be so.
        page.reset_dimensions()
        for number, row in enumerate(page.iter_rows(values_only=True, max_col=most_columns + 1), start=1):
            cells = [_text(cell) for cell in row]
            if any(cells):
                yield number, cells


def _text(cell: Any) -> str:
    if cell is None:
        return ""
    if isinstance(cell, dt.datetime):
        return cell.date().isoformat() if cell.time() == dt.time() else cell.isoformat()
    if isinstance(cell, bool):
        return str(cell).lower()
    if isinstance(cell, float) and cell.is_integer() and abs(cell) < 1e15:
        return str(int(cell))
    return str(cell)


@contextmanager
def _opened(path: Path) -> Iterator[Any]:
    # It takes half a second and thirty megabytes, which a start must not.
    from openpyxl.reader.excel import load_workbook

    try:
        with zipfile.ZipFile(path) as archive:
            sizes = {one.filename: one.file_size for one in archive.infolist()}
        whole = sum(sizes.values())
        bomb = whole > _SMALL and whole > _BOMB * path.stat().st_size
        if bomb or whole > _MOST_UNPACKED or sizes.get("xl/sharedStrings.xml", 0) > _MOST_TEXTS:
            raise BadFile(f"{path.name} unpacks to more than a workbook may. Save the sheet as CSV.")
        book = load_workbook(path, read_only=True, data_only=True, keep_links=False)  # type: ignore[no-untyped-call]
        try:
            yield book
        finally:
            book.close()
    except (zipfile.BadZipFile, KeyError, ValueError, TypeError, ParseError, EOFError) as error:
        raise BadFile(f"{path.name} is no workbook, or only a part of one: {short(error)}") from None
    except OSError as error:
        raise BadFile(f"{path.name} cannot be read: {error.strerror or short(error)}") from None
