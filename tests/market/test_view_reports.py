"""Which reports a view knows, and which session could react to one."""

from __future__ import annotations

import numpy as np

from flinch.market import View


def test_a_report_is_known_from_its_own_day_on_and_not_before(market: View):
    found = 0
    for row, reports in list(market.frame.reports.items())[:60]:
        for report in reports:
            day = np.searchsorted(market.frame.sessions, np.datetime64(report.known_on, "D"))
            if 1 <= day < market.end and market.date(int(day)) == report.known_on:
                assert report in market.at(int(day)).reports(row)
                assert report not in market.at(int(day) - 1).reports(row)
                found += 1
    assert found > 60


def test_price_reacts_to_a_report_before_the_open_on_its_day_and_to_others_on_the_next(market: View):
    seen = set()
    for row in range(0, len(market.frame.names), 9):
        for report in market.reports(row):
            place = market.reaction(report)
            if place is None:
                continue
            wanted = market.date(place) if report.timing == "before_open" else market.date(place - 1)
            assert wanted == report.session
            seen.add(report.timing)
    assert seen == {"before_open", "after_close"}
