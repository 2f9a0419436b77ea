"""The days ahead of a list of names, as a calendar that other programs read."""

from __future__ import annotations

import datetime as dt

import icalendar
import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.market import View
from flinch.store.market.chain import read_dividends

WHY = {"page": "Screen", "words": "tested", "link": "/screen", "values": {}}


def events(client: FlaskClient, source: str) -> list[tuple[dt.date, str, str]]:
    answer = client.get("/api/baskets/calendar", query_string={"source": source})
    assert (answer.status_code, answer.mimetype) == (200, "text/calendar")
    [calendar] = icalendar.Calendar.from_ical(answer.data, multiple=True)
    found = calendar.walk("VEVENT")
    assert len({str(event["UID"]) for event in found}) == len(found)
    assert all(event["DTEND"].dt - event["DTSTART"].dt == dt.timedelta(days=1) for event in found)
    return [(event["DTSTART"].dt, event["CATEGORIES"].to_ical().decode(), str(event["SUMMARY"])) for event in found]


@pytest.fixture
def rows(market: View) -> list[int]:
    """One with a dividend that was declared, one with a report ahead, a fund."""
    frame = market.frame
    dividend = int(np.flatnonzero(np.isfinite(market.metric("days_to_ex_dividend")) & (frame.kind == "stock"))[0])
    report = next(r for r in range(frame.ids.size) if market.next_report(r) is not None and r != dividend)
    fund = int(np.flatnonzero((frame.kind == "fund") & market.optionable())[0])
    return [dividend, report, fund]


def test_the_calendar_of_the_tray_has_what_the_pages_say(client: FlaskClient, market: View, rows: list[int]):
    symbols = [market.name(row).symbol for row in rows]
    client.post("/api/tray", json={"symbols": symbols, "why": WHY})
    told = events(client, "tray")
    assert [day for day, *_ in told] == sorted(day for day, *_ in told)
    assert min(day for day, *_ in told) > market.today
    reports = [(day, words) for day, what, words in told if what == "Report"]
    words = {"before_open": " before the open", "after_close": " after the close", "unknown": ""}
    expected = [
        (one.session, f"{market.name(row).symbol} reports{words[one.timing]}")
        for row in rows
        for one in market.reports(row)
        if one.session > market.today
    ]
    assert sorted(reports) == sorted(expected)
    assert any(words.startswith(symbols[1]) for _, words in reports)
    paid = read_dividends(market.store, market.id(rows[0]))
    ahead = paid.filter((paid["ex_date"] > market.today) & (paid["declared_on"] <= market.today))
    dividends = [(day, words) for day, what, words in told if what == "Ex-dividend" and words.startswith(symbols[0])]
    assert dividends == [
        (day, f"{symbols[0]} goes ex-dividend, {amount:g}")
        for day, amount in ahead.select("ex_date", "amount").iter_rows()
    ]
    ends = {day: words for day, what, words in told if what == "Expiration"}
    listed = {one.expiration for row in rows for one in market.expirations(row)} - {market.today}
    assert ends.keys() == listed
    for day, words in ends.items():
        mine = [market.name(row).symbol for row in rows if day in {one.expiration for one in market.expirations(row)}]
        assert words.split(": ")[1].split(", ") == sorted(mine, key=market.row)
        third = day.weekday() == 4 and 15 <= day.day <= 21
        assert words.startswith("Monthly") or not third


def test_a_calendar_of_many_names_says_how_many_more_an_expiration_has(client: FlaskClient, market: View):
    told = [words for _, what, words in events(client, "stock") if what == "Expiration" and words.startswith("Monthly")]
    assert any(words.endswith(" more") for words in told)
    assert max(len(words) for words in told) < 400


def test_an_empty_list_is_an_empty_calendar_and_a_source_that_is_not_there_is_told(client: FlaskClient):
    assert events(client, "tray") == []
    assert client.get("/api/baskets/calendar?source=basket:99999").status_code == 422
