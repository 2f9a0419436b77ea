"""The market in memory: names found, reports told, universes drawn, versions swapped under load."""

import datetime as dt
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from sqlalchemy import Engine

from flinch.market import MarketHolder, UnknownName, View
from flinch.store.market.state import finish_load


def test_every_symbol_leads_to_its_row(market: View):
    assert [market.row(name.symbol) for name in market.frame.names] == list(range(502))


@pytest.mark.parametrize("text", ["", "   ", "⟦▮⟧", "\x00", "9" * 1000, "qqqqq"])
def test_what_is_like_nothing_proposes_nothing(market: View, text: str):
    with pytest.raises(UnknownName) as told:
        market.row(text)
    assert told.value.nearest == []


@pytest.mark.parametrize(("text", "expected"), [("TARNNO", "TARNO"), ("helmu bio", "HELMU"), ("beluga", "BELUA")])
def test_a_slip_of_the_finger_finds_the_name(market: View, text: str, expected: str):
    assert expected in market.nearest_symbols(text)


def test_a_name_takes_part_from_its_listing_on(market: View):
    assert market.optionable().sum() == 502
    before = market.at(market.last - 45).optionable()
    assert before.sum() == 501
    assert not before[market.row("PELDU")]


def test_days_lead_to_sessions(market: View):
    assert market.date(market.session_on(dt.date(2026, 9, 7))) == dt.date(2026, 9, 4), "a holiday Monday"
    assert market.session_on(dt.date(2030, 1, 1)) == market.last
    assert market.session_on(dt.date(1999, 1, 1)) == 0


def test_the_next_report_is_the_first_the_price_has_not_reacted_to(market: View):
    assert market.next_report(market.row("TRAFA")) is None
    for row in range(480):
        report = market.next_report(row)
        past = [r for r in market.frame.reports.get(row, []) if r.session < market.today]
        if report is not None:
            assert report.session > market.today or report.timing == "after_close"
            assert all(r.session < report.session for r in past)
    belua = [r.session for r in market.frame.reports[market.row("BELUA")]]
    assert dt.date(2026, 9, 4) in belua
    assert market.next_report(market.row("KOSVI")).session == dt.date(2026, 9, 10)


def test_expirations_are_in_order_and_ahead(market: View):
    for listed in market.frame.expiries.values():
        days = [expiry.expiration for expiry in listed]
        assert days == sorted(set(days))
        assert days[0] > market.today
        for expiry in listed:
            assert expiry.years > 0
            assert np.isnan(expiry.vol) or 0.03 < expiry.vol < 5


def test_requests_at_once_see_whole_versions(engine: Engine):
    holder = MarketHolder(engine)
    first = holder.current().frame.state.data_version
    finish_load(engine)
    holder._checked = -1e9  # as after two seconds

    def look(_: int) -> tuple[int, int]:
        seen = holder.current()
        return seen.frame.state.data_version, seen.metric("price").size

    with ThreadPoolExecutor(8) as pool:
        seen = set(pool.map(look, range(40)))
        assert seen == {(first, 502)}, "the old version is served while the new one is being read"
        deadline = time.monotonic() + 60
        while holder.current().frame.state.data_version == first and time.monotonic() < deadline:
            seen |= set(pool.map(look, range(40)))
    assert seen <= {(first, 502), (first + 1, 502)}
    assert holder.current().frame.state.data_version == first + 1
