"""Answers that are files: there at once when they are soon written, else told of, and asked for again."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import quote
from zoneinfo import ZoneInfo

from flask import Response, send_file
from pydantic import BaseModel, Field

from flinch.clock import wall
from flinch.feeds.export import FILES, MIME, Cell, Format, Heading, Sheet, write_to
from flinch.files import Asked, Write
from flinch.market import View
from flinch.screening.notes import RULE_HEADINGS, rule_rows
from flinch.screening.run import Ran
from flinch.web import owner, reply, services

MOST_ROWS = 20_000
"""Rows of a file; how many there would be is in its notes."""
_WAIT_SECONDS = 1.0


class FileUnderWay(BaseModel):
    """A file that is still being written."""

    id: int = Field(description="What /api/files is asked for")
    percent: int


RESPONSES: dict[str | int, type[BaseModel] | dict[Any, Any] | None] = {200: FILES, 202: FileUnderWay}
"""What asking for a file is answered with."""


class Table(NamedTuple):
    """What goes into a file: its columns, its rows, read while they are written, how many they are at most, and how many there
    would be without a bound."""

    headings: Sequence[Heading]
    rows: Iterable[Sequence[Cell]]
    written: int
    total: int


def hand_over(
    table: Table, view: View, ran: Ran, *, kind: str, title: str, form: Format, moment: str,
    notes: Sequence[tuple[str, str]],
) -> Response:  # fmt: skip
    """Write a table in the chosen form, with its rules and where it comes from, beside requests; `kind` says what it is of,
    `moment` as of when."""
    about = [
        (kind, title),
        ("as of", moment),
        *notes,
        ("rows", f"{table.written} of {table.total}"),
        ("source", view.source),
        ("data version", str(view.data_version)),
        ("written", f"{wall():%Y-%m-%d %H:%M} UTC"),
    ]
    rules = rule_rows(ran)

    def write(path: Path, tell: Callable[[float], None]) -> None:
        def counted() -> Iterator[Sequence[Cell]]:
            for place, row in enumerate(table.rows):
                if place % 50 == 0:
                    tell(place / max(table.written, 1))
                yield row

        with path.open("wb") as out:
            write_to(out, Sheet(title, table.headings, counted(), about, rules, RULE_HEADINGS), form)

    name = f"{title.strip() or kind} {view.today}.{form}"
    disposition = f"attachment; filename=\"{kind}.{form}\"; filename*=UTF-8''{quote(name, safe='')}"
    return answer_file(services().files.begin(owner(), Write(write, MIME[form], disposition)))


def at_the_exchange(moment: dt.datetime) -> str:
    """A moment in the exchange's zone as files say it, with the city that the zone is called by."""
    zone = moment.tzinfo.key if isinstance(moment.tzinfo, ZoneInfo) else "UTC"
    return f"{moment:%Y-%m-%d %H:%M} {zone.rsplit('/', 1)[-1].replace('_', ' ')}"


def in_parts(
    rows: int, part: Callable[[int, int], Iterable[Sequence[Cell]]], size: int = 500
) -> Iterator[Sequence[Cell]]:
    """Rows that are told some at a time, from a first one to before another."""
    for first in range(0, rows, size):
        yield from part(first, min(first + size, rows))


def answer_file(number: int) -> Response:
    """A file of the request's owner when it is whole within a second, else how far it is."""
    asked: Asked = services().files.look(number, owner(), _WAIT_SECONDS)
    if asked.path is None:
        under_way: Response = reply(FileUnderWay(id=asked.id, percent=asked.percent), 202)
        return under_way
    answer = send_file(asked.path, mimetype=asked.mimetype, max_age=0, etag=False)
    answer.headers["Content-Disposition"] = asked.disposition
    return answer
