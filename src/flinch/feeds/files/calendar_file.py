"""Dates of reports out of a calendar (iCalendar, RFC 5545): an event a row, told by its title."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator
from pathlib import Path

import icalendar

from flinch.feeds.files.errors import BadFile, short

ENDINGS = (".ics", ".ical", ".ifb")
COLUMNS = ["symbol", "session", "timing", "title"]
_LARGEST = 32 << 20
_SYMBOL = re.compile(r"(?<![A-Za-z0-9.])\$?([A-Z][A-Z0-9.^/-]{0,11})(?![A-Za-z0-9])")
_REPORT = re.compile(r"report|earning|result", re.IGNORECASE)
_EARLY = re.compile(r"before|pre.?market|\bbmo\b", re.IGNORECASE)
_LATE = re.compile(r"after|post.?market|\bamc\b", re.IGNORECASE)
_NO_SYMBOLS = frozenset("q1 q2 q3 q4 h1 h2 fy eps bmo amc us a i".upper().split())


def event_rows(path: Path) -> Iterator[tuple[int, list[str]]]:
    """The events of a calendar in order, numbered from one: symbol, day, timing and title, empty where it tells none. Where
    events have categories, those of reports alone. Raises BadFile."""
    if path.stat().st_size > _LARGEST:
        raise BadFile(f"{path.name} is larger than a calendar may be ({_LARGEST >> 20} MB).")
    try:
        calendars = icalendar.Calendar.from_ical(path.read_bytes(), multiple=True)
        events = [event for calendar in calendars for event in calendar.walk("VEVENT")]
        rows = [(_categories(event), _row(event)) for event in events]
    except (ValueError, KeyError, IndexError, TypeError, AttributeError, UnicodeDecodeError) as error:
        raise BadFile(f"{path.name} is no calendar, or only a part of one: {short(error)}") from None
    if not rows:
        raise BadFile(f"{path.name} is no calendar with events.")
    sorted_out = any(categories for categories, _ in rows)
    for number, (categories, row) in enumerate(rows, start=1):
        if not sorted_out or _REPORT.search(categories):
            yield number, row


def _row(event: icalendar.cal.Component) -> list[str]:
    title = str(event.get("SUMMARY", ""))[:200]
    when = event.get("DTSTART")
    start = None if when is None else when.dt
    day = start.date() if isinstance(start, dt.datetime) else start
    found = [one for one in _SYMBOL.findall(title) if one not in _NO_SYMBOLS]
    return [found[0] if found else "", "" if day is None else day.isoformat(), _timing(title, start), title]


def _timing(title: str, start: dt.datetime | dt.date | None) -> str:
    if _EARLY.search(title):
        return "before_open"
    if _LATE.search(title):
        return "after_close"
    if isinstance(start, dt.datetime) and start.time() != dt.time():
        return "before_open" if start.hour < 12 else "after_close" if start.hour >= 16 else "unknown"
    return "unknown"


def _categories(event: icalendar.cal.Component) -> str:
    told = event.get("CATEGORIES")
    if told is None:
        return ""
    listed = told if isinstance(told, list) else [told]
    return ",".join(one.to_ical().decode() if hasattr(one, "to_ical") else str(one) for one in listed)
