"""Answers that are files."""

from __future__ import annotations

import datetime as dt
from urllib.parse import quote

from flask import Response

from flinch.feeds.export import MIME, Format, Sheet, write_sheet


def sheet_file(sheet: Sheet, kind: str, day: dt.date, form: Format) -> Response:
    """A sheet as a file to keep, called after it and a day; `kind` is its name where another cannot be written."""
    name = f"{sheet.title.strip() or kind} {day}.{form}"
    disposition = f"attachment; filename=\"{kind}.{form}\"; filename*=UTF-8''{quote(name, safe='')}"
    return Response(write_sheet(sheet, form), mimetype=MIME[form], headers={"Content-Disposition": disposition})
