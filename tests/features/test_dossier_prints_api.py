"""The Dossier's off-exchange part over HTTP."""

import pytest
from flask.testing import FlaskClient

from flinch.market import View
from flinch.market.prints import market_prints


@pytest.fixture
def ask(client: FlaskClient):
    def asked(symbol: str, status=200, **query):
        answer = client.get(f"/api/dossier/prints/{symbol}", query_string=query)
        assert answer.status_code == status, answer.text
        return answer.json

    return asked


def test_shelves_and_what_is_in_none_come_to_all_of_the_window(ask, market: View):
    for symbol in ("VUSVO", "TARNO", "KODEO"):
        found = ask(symbol, sessions=30)
        inside = sum(shelf["notional"] for shelf in found["shelves"])
        assert inside + found["outside"] == pytest.approx(found["notional"])
        assert sum(shelf["share_pct"] for shelf in found["shelves"]) == pytest.approx(100 * inside / found["notional"])
        prints = market_prints(market)
        mine = prints.bursts_of(market.row(symbol), market.last - 29, market.last)
        assert found["notional"] == pytest.approx(prints.bursts.notional[mine].sum())
        assert found["bursts_total"] == mine.size
        prices = [shelf["price"] for shelf in found["shelves"]]
        assert prices == sorted(prices, reverse=True)
        assert all(shelf["low"] <= shelf["price"] + 0.05 and shelf["share_pct"] >= 3 for shelf in found["shelves"])


def test_a_shelf_that_held_and_one_that_broke_say_so(ask, stories):
    held = ask(stories["a shelf that held three times"].symbol)
    assert [(s["held"], s["broke"]) for s in held["shelves"]] == [(3, 0)]
    assert [test["outcome"] for test in held["tests"]] == ["held"] * 3
    broke = ask(stories["a shelf that broke"].symbol)
    assert [(s["held"], s["broke"]) for s in broke["shelves"]] == [(0, 1)]
    (test,) = broke["tests"]
    assert (test["came_from"], test["outcome"]) == ("above", "broke")


def test_tests_are_newest_first_and_bars_say_what_they_are(ask):
    found = ask("VUSVO", sessions=20)
    times = [test["at"] for test in found["tests"]]
    assert times == sorted(times, reverse=True)
    days = [bar for bar in found["bars"] if bar["day"]]
    assert len(days) == 10
    assert len(found["bars"]) - 10 == 9 * 26 + 25
    assert found["bars"][0]["at"][:10] == found["first_session"]


def test_the_record_stands_beside_the_placebo(ask):
    own, every = ask("VUSVO")["record"]
    assert (own["of"], every["of"]) == ("VUSVO", "all names")
    assert own["verdict"] == "too few"
    assert every["tests"] > 10_000
    assert every["low"] < every["difference"] < every["high"]
    assert "no better than a price at the same distance" in every["sentence"]


def test_what_makes_no_level_is_told_and_in_no_shelf(ask, stories):
    found = ask(stories["an average price far from the market"].symbol)
    (line,) = [burst for burst in found["bursts"] if burst["price"] == 14.9]
    assert line["conditions"] == ["average price"]
    assert all(shelf["high"] < 14.9 for shelf in found["shelves"])


def test_two_days_and_words_for_what_cannot_be(ask, stories):
    found = ask("VUSVO", first="2026-08-03", last="2026-08-14")
    assert (found["first_session"], found["last_session"]) == ("2026-08-03", "2026-08-14")
    assert "Give the earlier day first" in ask("VUSVO", status=422, first="2026-09-09", last="2026-09-01")["message"]
    assert "Look at 1 to 60 sessions" in ask("VUSVO", status=422, sessions=99)["message"]
    none = ask(stories["no prints at all"].symbol)
    assert (none["reason"], none["shelves"], none["tests"]) == ("it had no prints in this window", [], [])
    assert ask("MUFEO")["reason"] == "an index does not trade"
    before = ask("VUSVO", as_of="2026-01-05")
    assert before["reason"] == "no prints are kept up to this session"
    assert ask("NOSUCH", status=404)["nearest"]
