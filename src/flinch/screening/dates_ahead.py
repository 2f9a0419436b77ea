"""What lies ahead of some names, by day, and as a calendar that other programs read (iCalendar, RFC 5545)."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Literal, NamedTuple

import numpy as np
from icalendar import Calendar, Event

from flinch.core.calendar import is_monthly
from flinch.market import View
from flinch.store.market.chain import read_declared

What = Literal["Report", "Ex-dividend", "Expiration"]
_WHEN = {"before_open": " before the open", "after_close": " after the close"}
_NAMED = 30
"""Names that an expiration tells; how many more there are is said."""


class Ahead(NamedTuple):
    """A day to come: what it is, of which names, and in words."""

    day: dt.date
    what: What
    symbols: list[str]
    words: str


def dates_ahead(view: View, symbols: Sequence[str]) -> list[Ahead]:
    """Reports, ex-dividend days and expirations of names after a view's session, as far as they were known then, by day. An
    expiration is one entry for all names that have it."""
    rows = [view.row(symbol) for symbol in symbols]
    found = []
    ends: dict[dt.date, list[str]] = {}
    for row in rows:
        symbol = view.name(row).symbol
        for report in view.reports(row):
            if report.session > view.today:
                words = f"{symbol} reports{_WHEN.get(report.timing, '')}"
                found.append(Ahead(report.session, "Report", [symbol], words))
        for expiry in view.expirations(row):
            if expiry.expiration > view.today:
                ends.setdefault(expiry.expiration, []).append(symbol)
    by_id = {view.id(row): view.name(row).symbol for row in rows}
    for name_id, day, amount in read_declared(view.store, list(by_id), view.today, view.today).iter_rows():
        found.append(Ahead(day, "Ex-dividend", [by_id[name_id]], f"{by_id[name_id]} goes ex-dividend, {amount:g}"))
    for day, listed in ends.items():
        monthly = bool(is_monthly(np.array([day], dtype="datetime64[D]"), view.calendar)[0])
        more = f" and {len(listed) - _NAMED} more" if len(listed) > _NAMED else ""
        words = f"{'Monthly expiration' if monthly else 'Expiration'}: {', '.join(listed[:_NAMED])}{more}"
        found.append(Ahead(day, "Expiration", listed, words))
    return sorted(found, key=lambda one: (one.day, one.what, one.symbols))


def calendar_of(ahead: Sequence[Ahead], *, name: str, market: str, moment: dt.datetime) -> bytes:
    """Days as a calendar: the same day of the same names keeps its id, so that who reads it again sees no day twice."""
    calendar = Calendar()
    calendar.add("prodid", "-//Flinch//dates ahead//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", name)
    for one in ahead:
        event = Event()
        whose = one.symbols[0] if one.what != "Expiration" else "all"
        event.add("uid", f"{market}-{one.what}-{whose}-{one.day}@flinch".lower())
        event.add("dtstamp", moment.astimezone(dt.UTC))
        event.add("dtstart", one.day)
        event.add("dtend", one.day + dt.timedelta(days=1))
        event.add("summary", one.words)
        event.add("categories", [one.what])
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    told: bytes = calendar.to_ical()
    return told
