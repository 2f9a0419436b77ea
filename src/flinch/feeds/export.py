"""Writing a list of names to open formats: CSV, XLSX and JSON."""

from __future__ import annotations

import csv
import io
import json
import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, BinaryIO, Literal, NamedTuple

import xlsxwriter

Format = Literal["csv", "xlsx", "json"]
MIME: dict[Format, str] = {
    "csv": "text/csv; charset=utf-8",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "json": "application/json",
}
FILES = {
    "description": "The file",
    "content": {
        MIME["csv"].partition(";")[0]: {"schema": {"type": "string"}},
        MIME["xlsx"]: {"schema": {"type": "string", "contentMediaType": MIME["xlsx"]}},
        MIME["json"]: {"schema": {"type": "object"}},
    },
}
"""A file in any of the formats, as the API description tells it."""
Cell = float | str | bool | None


class Heading(NamedTuple):
    """A column: its key for programs, its name and unit for people, and how many decimals its numbers have."""

    key: str
    label: str
    unit: str
    decimals: int


@dataclass(frozen=True)
class Sheet:
    """A table to write: what it is, its columns, its rows (read once, while they are written), and notes on where it comes from,
    two texts a line."""

    title: str
    headings: Sequence[Heading]
    rows: Iterable[Sequence[Cell]]
    notes: Sequence[tuple[str, str]]
    rules: Sequence[Sequence[Cell]] = ()
    rule_headings: Sequence[str] = ()


def write_sheet(sheet: Sheet, format: Format) -> bytes:
    """The file's bytes, for a small one. A missing value is an empty cell, or null."""
    out = io.BytesIO()
    write_to(out, sheet, format)
    return out.getvalue()


def write_to(out: BinaryIO, sheet: Sheet, format: Format) -> None:
    """Write the file; a row is asked for when those before it are written."""
    {"csv": _csv, "xlsx": _xlsx, "json": _json}[format](out, sheet)


def _csv(out: BinaryIO, sheet: Sheet) -> None:
    # With a mark that it is UTF-8, which spreadsheets need.
    text = io.TextIOWrapper(out, encoding="utf-8-sig", newline="", write_through=True)
    writer = csv.writer(text, lineterminator="\r\n")
    writer.writerow([_plain(_titled(heading)) for heading in sheet.headings])
    for row in sheet.rows:
        writer.writerow([_shown(cell) for cell in row])
    text.detach()


def _shown(cell: Cell) -> str | float | int:
    if cell is None or (isinstance(cell, float) and not math.isfinite(cell)):
        return ""
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    return _plain(cell) if isinstance(cell, str) else cell


def _plain(text: str) -> str:
    """A text that a spreadsheet would take for a formula is marked as text."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


def _titled(heading: Heading) -> str:
    return f"{heading.label} ({heading.unit})" if heading.unit else heading.label


def _json(out: BinaryIO, sheet: Sheet) -> None:
    def value(cell: Cell) -> Any:
        return None if isinstance(cell, float) and not math.isfinite(cell) else cell

    head = {
        "title": sheet.title,
        "notes": dict(sheet.notes),
        "rules": [dict(zip(sheet.rule_headings, row, strict=True)) for row in sheet.rules],
        "columns": [heading._asdict() for heading in sheet.headings],
    }
    # The rows go on where the head would end.
    out.write(json.dumps(head, ensure_ascii=False, indent=1).removesuffix("\n}").encode() + b',\n "rows": [')
    for place, row in enumerate(sheet.rows):
        told = {heading.key: value(cell) for heading, cell in zip(sheet.headings, row, strict=True)}
        out.write((b",\n  " if place else b"\n  ") + json.dumps(told, ensure_ascii=False).encode())
    out.write(b"\n ]\n}")


def _xlsx(out: BinaryIO, sheet: Sheet) -> None:
    # Row by row, so that no more than one is held.
    options = {"constant_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    book = xlsxwriter.Workbook(out, options)
    bold = book.add_format({"bold": True, "text_wrap": True, "valign": "top", "bottom": 1})
    formats = {
        decimals: book.add_format({"num_format": "#,##0" + ("." + "0" * decimals if decimals else "")})
        for decimals in {heading.decimals for heading in sheet.headings}
    }
    page = book.add_worksheet(_sheet_name(sheet.title))
    for column, heading in enumerate(sheet.headings):
        page.write_string(0, column, _readable(_titled(heading)), bold)
    widths, row = [_LEAST_WIDE] * len(sheet.headings), 0
    for row, cells in enumerate(sheet.rows, 1):
        for column, cell in enumerate(cells):
            _write(page, row, column, cell, formats[sheet.headings[column].decimals])
            if isinstance(cell, str):
                widths[column] = max(widths[column], min(len(cell) + 2, _MOST_WIDE))
    for column, width in enumerate(widths):
        page.set_column(column, column, width)
    page.freeze_panes(1, 1)
    if sheet.headings:
        page.autofilter(0, 0, max(row, 1), len(sheet.headings) - 1)
    about = book.add_worksheet(_SECOND)
    strong, row = book.add_format({"bold": True}), 0
    for key, text in sheet.notes:
        about.write_string(row, 0, _readable(key), strong)
        about.write_string(row, 1, _readable(text))
        row += 1
    row += 1
    for column, text in enumerate(sheet.rule_headings):
        about.write_string(row, column, _readable(text), bold)
    for cells in sheet.rules:
        row += 1
        for column, cell in enumerate(cells):
            _write(about, row, column, cell, None)
    about.set_column(0, 0, 40)
    about.set_column(1, len(sheet.rule_headings), 20)
    book.close()


def _write(page: Any, row: int, column: int, cell: Cell, number: Any) -> None:
    if cell is None or (isinstance(cell, float) and not math.isfinite(cell)):
        return
    if isinstance(cell, bool):
        page.write_boolean(row, column, cell)
    elif isinstance(cell, str):
        page.write_string(row, column, _readable(cell))
    else:
        page.write_number(row, column, cell, number)


_SECOND = "Rules and as of"
_LONGEST_NAME = 31
_LONGEST_CELL = 32_767
_LEAST_WIDE, _MOST_WIDE = 11, 48
"""Characters that a column shows."""
_NOT_IN_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\ud800-\udfff]")


def _readable(text: str) -> str:
    """A text that a spreadsheet can open: characters that its files may not hold are shown as replaced."""
    return _NOT_IN_XML.sub("\ufffd", text)[:_LONGEST_CELL]


def _sheet_name(title: str) -> str:
    """A name that a sheet may have: 31 UTF-16 units, none of the signs kept for formulas, and not the second sheet's."""
    clean = "".join(" " if character in "[]:*?/\\'" else character for character in _readable(title)).strip()
    if clean.casefold() in ("", "history", _SECOND.casefold()):
        clean = f"Names {clean}".strip()
    while len(clean.encode("utf-16-le")) > 2 * _LONGEST_NAME:
        clean = clean[:-1]
    return clean.strip()
