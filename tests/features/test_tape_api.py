"""The Dossier's tape over HTTP."""

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.market import View
from flinch.market.tape import read_name_tape


@pytest.fixture
def get(client: FlaskClient):
    def ask(symbol: str, **query):
        answer = client.get(f"/api/dossier/tape/{symbol}", query_string=query)
        assert answer.status_code == 200, answer.text
        return answer.json

    return ask


def test_the_largest_tickets_come_first_and_all_of_them_are_counted(get, market: View):
    page, read = get("GLUDO"), read_name_tape(market, market.row("GLUDO"), market.last)
    assert page["tickets_total"] == read.tickets.first.size > 200 == len(page["tickets"])
    premiums = [ticket["premium"] for ticket in page["tickets"]]
    assert premiums == sorted(premiums, reverse=True)
    assert premiums == pytest.approx(np.sort(read.tickets.premium)[::-1][:200].tolist())
    assert page["premium"] == pytest.approx(read.tickets.premium.sum())


def test_premium_by_quarter_adds_up(get):
    page = get("TARNO")
    sums = [
        q[f"{right}_{side}"] for q in page["quarters"] for right in ("call", "put") for side in ("ask", "mid", "bid")
    ]
    assert sum(sums) == pytest.approx(page["premium"])
    assert len(page["quarters"]) == 26
    assert page["quarters"][-1]["call_ask"] == 0, "the last quarter of an hour has not come yet"
    assert sum(q["shares"] for q in page["quarters"]) == pytest.approx(page["lean_shares"], rel=1e-6)


def test_a_quarter_sums_up_the_tickets_that_began_in_it(get):
    page = get("KELEA")
    assert page["tickets_total"] == len(page["tickets"]) > 20, "all of them are told"
    ends = [quarter["at"] for quarter in page["quarters"][1:]] + ["9"]
    sides = {1: "ask", 0: "mid", -1: "bid"}
    for quarter, end in zip(page["quarters"], ends, strict=True):
        mine = [t for t in page["tickets"] if quarter["at"] <= t["at"] < end]
        for key in ("call_ask", "call_mid", "call_bid", "put_ask", "put_mid", "put_bid"):
            total = sum(t["premium"] for t in mine if f"{'call' if t['is_call'] else 'put'}_{sides[t['side']]}" == key)
            assert quarter[key] == pytest.approx(total), (quarter["at"], key)


def test_a_ticket_is_told_with_its_fills(get):
    for ticket in get("BELUA")["tickets"]:
        assert ticket["fill_count"] == len(ticket["fills"]) or len(ticket["fills"]) == 60
        if ticket["fill_count"] == len(ticket["fills"]):
            assert ticket["contracts"] == sum(fill["contracts"] for fill in ticket["fills"])
        assert ticket["at"] == ticket["fills"][0]["at"]
        venues = {fill["venue"] for fill in ticket["fills"]}
        assert (ticket["kind"] == "sweep") == (len(venues) > 1)
        away = 100 * (ticket["strike"] / ticket["spot"] - 1) * (1 if ticket["is_call"] else -1)
        assert ticket["away_pct"] == pytest.approx(away)
        fill = ticket["fills"][0]
        assert {1: fill["price"] >= fill["bid"], -1: fill["price"] <= fill["ask"], 0: True}[ticket["side"]]


def test_contracts_are_summed_and_next_morning_is_known_of_a_past_session(get):
    today, before = get("TARNO"), get("TARNO", session="2026-09-08")
    assert not today["next_known"]
    assert before["next_known"]
    assert all(contract["opened"] is None for contract in today["contracts"])
    assert any(contract["opened"] for contract in before["contracts"])
    for contract in before["contracts"]:
        if contract["opened"] is not None:
            assert abs(contract["opened"]) <= contract["volume"]
            assert contract["small_base"] == (contract["open_interest"] < 100)
    mine = [t for t in before["tickets"] if t["opening"] == "confirmed"]
    assert mine
    as_of_then = get("TARNO", as_of="2026-09-08")
    assert not as_of_then["next_known"]
    assert as_of_then["session"] == "2026-09-08"
    assert as_of_then["sessions"] == before["sessions"][:-1]


def test_packages_are_told_leg_by_leg(get):
    page = get("GLUDO")
    assert page["packages_total"] >= len(page["packages"]) > 5
    forms = {package["form"] for package in page["packages"]}
    assert {"vertical", "straddle"} <= forms
    for package in page["packages"]:
        assert len(package["legs"]) >= 2
        if package["form"] == "vertical":
            assert sorted(leg.split()[0] for leg in package["legs"]) == ["bought", "sold"]


def test_what_is_not_kept_is_said(get):
    page = get("TARNO", as_of="2026-03-10")
    assert (page["reason"], page["tickets"], page["sessions"]) == ("no option trades of this session are kept", [], [])
    other = get("TARNO", session="2026-03-10")
    assert other["session"] == "2026-09-09", "a session that is not kept gives the as-of one"


def test_nobody_of_that_name_and_a_day_that_is_none(client: FlaskClient):
    unknown = client.get("/api/dossier/tape/TARNX")
    assert (unknown.status_code, unknown.json["type"]) == (404, "unknown_name")
    assert client.get("/api/dossier/tape/TARNO?session=yesterday").status_code == 422
    assert client.get("/api/dossier/tape/TARNO?as_of=%3Cb%3E").status_code == 422


def test_the_last_sixty_sessions_with_the_place_of_the_one_shown(get, market: View):
    page, row = get("GLUDO"), market.row("GLUDO")
    history = page["history"]
    assert [day["session"] for day in history] == [day.isoformat() for day in market.sessions[-60:]]
    calls, puts = (market.metric(f"{right}_premium")[row] for right in ("call", "put"))
    assert (history[-1]["call"], history[-1]["put"]) == pytest.approx((calls, puts))
    totals = [day["call"] + day["put"] for day in history]
    assert page["below"] == sum(total < totals[-1] for total in totals[:-1])
    past = get("GLUDO", session="2026-09-04")
    assert past["history"][-1]["session"] == "2026-09-04"
    assert past["history"][-2] == history[-4]
    long_ago = get("GLUDO", as_of="2026-03-18")
    assert len(long_ago["history"]) == 60, "sums are kept of sessions whose fills are not"
