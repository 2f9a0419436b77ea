"""The Tape page over HTTP: the same survivors by name, one by one, by contract and through the day."""

import csv
import datetime as dt
import io
import json

import numpy as np
import pytest
from flask.testing import FlaskClient
from tests.taken import taken

from flinch.market import View
from flinch.screening.starters import TAPE_STARTERS

RULES = ["premium >= 20000", 'side in ("ask",)', "not in_package"]


def stack(*rules: str, universe: str = "stock") -> dict:
    return {"universe": universe, "rules": [{"text": rule} for rule in rules], "any_groups": []}


@pytest.fixture
def look(client: FlaskClient):
    def ask(*rules: str, status: int = 200, universe: str = "stock", **more):
        answer = client.post("/api/tape", json={"stack": stack(*rules, universe=universe), **more})
        assert answer.status_code == status, answer.text
        return answer.json

    return ask


def sided(row: dict) -> float:
    return sum(row[right][side] for right in ("call", "put") for side in ("ask", "mid", "bid"))


def test_the_price_of_a_name_ends_at_the_time_that_is_looked_at(client: FlaskClient, look):
    symbol = look(*RULES)["names"][0]["symbol"]

    def name(**more):
        return client.post("/api/tape/name", json={"stack": stack(*RULES), "symbol": symbol, **more}).json

    whole, morning = name(), name(until="10:30")
    until = dt.datetime(2026, 9, 9, 14, 30, tzinfo=dt.UTC)
    minutes = [dt.datetime.fromisoformat(at) for at in morning["minutes"]]
    assert minutes == [at for at in map(dt.datetime.fromisoformat, whole["minutes"]) if at < until]
    assert 50 < len(minutes) == len(morning["prices"]) <= 60
    assert minutes[0] == dt.datetime(2026, 9, 9, 13, 30, tzinfo=dt.UTC), "from the open on"
    assert morning["price"] == pytest.approx(morning["prices"][-1])
    assert all(dt.datetime.fromisoformat(mark["at"]) < until for mark in morning["marks"])


def test_every_way_to_look_adds_up_to_the_same(look):
    pages = {
        view: look(*RULES, view=view, count=1_200, sessions=2) for view in ("names", "tickets", "contracts", "day")
    }
    first = pages["names"]
    assert first["survivors"] > 1_000
    for view, page in pages.items():
        assert (page["survivors"], page["shown"]) == (first["survivors"], first["survivors"]), view
        assert page["premium"] == pytest.approx(first["premium"])
        assert [rule["survivors"] for rule in page["rules"]] == [rule["survivors"] for rule in first["rules"]]
    names, quarters = first["names"], pages["day"]["quarters"]
    assert sum(row["premium"] for row in names) == pytest.approx(first["premium"], rel=1e-6)
    assert sum(row["tickets"] for row in names) == first["survivors"]
    assert all(sided(row) == pytest.approx(row["premium"]) for row in names)
    assert all(row["call"]["bid"] == row["put"]["mid"] == 0 for row in names), "only the ask side survives"
    assert all(row["net"] == pytest.approx(row["call"]["ask"] - row["put"]["ask"]) for row in names)
    assert sum(sided(q) for q in quarters) == pytest.approx(first["premium"], rel=1e-6)
    assert sum(q["tickets"] for q in quarters) == first["survivors"]
    assert len(quarters) == 2 * 26
    assert sorted(first["symbols"]) == sorted(row["symbol"] for row in names)
    assert set(pages["tickets"]["symbols"]) == set(first["symbols"]) == set(pages["contracts"]["symbols"])


def test_tickets_come_newest_first_and_pages_follow_each_other(look):
    page = look(*RULES, view="tickets", count=50)
    times = [ticket["at"] for ticket in page["tickets"]]
    assert times == sorted(times, reverse=True)
    more = look(*RULES, view="tickets", first=50, count=50)
    assert more["tickets"][0]["at"] <= times[-1]
    assert {ticket["side"] for ticket in page["tickets"]} == {"ask"}
    assert all(ticket["premium"] >= 20_000 for ticket in page["tickets"])
    assert page["total"] == page["survivors"]


def test_names_are_sorted_and_need_so_many_tickets(look):
    for key in ("premium", "tickets", "repeated", "since"):
        rows = look(*RULES, sort=f"-{key}", count=1_200)["names"]
        told = [row[key] for row in rows if row[key] is not None]
        assert told == sorted(told, reverse=True), key
        assert [row[key] for row in rows[len(told) :]] == [None] * (len(rows) - len(told)), "what is missing is last"
    every, some = look(*RULES, count=1_200), look(*RULES, least=20, count=1_200)
    assert {row["symbol"] for row in some["names"]} == {r["symbol"] for r in every["names"] if r["tickets"] >= 20}
    assert 0 < some["total"] < every["total"]
    by_symbol = look(*RULES, sort="symbol", count=1_200)["names"]
    assert [row["symbol"] for row in by_symbol] == sorted(row["symbol"] for row in by_symbol)


def test_a_name_s_line_by_its_tickets(look):
    """By a plain loop over the tickets of the name that has most of them."""
    row = look(*RULES, sort="-tickets")["names"][0]
    tickets = look(*RULES, f'symbol == "{row["symbol"]}"', view="tickets", count=1_200)["tickets"]
    assert len(tickets) == row["tickets"]
    contracts: dict[tuple, list[float]] = {}
    for t in tickets:
        contracts.setdefault((t["strike"], t["is_call"], t["expiration"], t["side"]), []).append(t["premium"])
    assert row["repeated"] == max(len(premiums) for premiums in contracts.values())
    assert row["strongest_premium"] == pytest.approx(max(sum(p) for p in contracts.values()))
    strongest = max(contracts, key=lambda key: sum(contracts[key]))
    assert row["strongest"].startswith(f"{strongest[0]:g} {'call' if strongest[1] else 'put'}")
    newest = max(tickets, key=lambda t: t["at"])
    assert (row["first_in"], row["first_ever"]) == (newest["first_in"], newest["first_ever"])
    largest = max(tickets, key=lambda t: t["premium"])
    assert row["since"] == pytest.approx(largest["since"])


def test_a_quarter_of_an_hour_shows_its_tickets_alone(look):
    day = look(*RULES, view="day")
    quarter = max(day["quarters"], key=lambda q: q["tickets"])
    chosen = {"session": quarter["session"], "place": quarter["place"]}
    page = look(*RULES, view="tickets", quarter=chosen, count=1_200)
    assert page["shown"] == page["total"] == quarter["tickets"] < page["survivors"]
    for ticket in page["tickets"]:
        hour, minute = int(ticket["at"][11:13]) - 4, int(ticket["at"][14:16])
        assert (60 * hour + minute - 570) // 15 == quarter["place"]
    assert look(*RULES, view="day", quarter=chosen)["quarters"] == day["quarters"], "the picture stays whole"


def test_contracts_tell_what_was_open_and_what_opened(look, market: View):
    rows = look(*RULES, view="contracts", sessions=2, count=1_200)["contracts"]
    assert all(row["ask_share_pct"] == 100 for row in rows), "only the ask side survives"
    assert all(row["volume"] >= row["contracts"] for row in rows)
    known = [row for row in rows if row["opened"] is not None]
    assert len(known) > 50
    assert all(row["small_base"] == (row["open_interest"] < 100) for row in known)
    today = look(*RULES, view="contracts", count=1_200)["contracts"]
    assert all(row["opened"] is None for row in today), "known the next morning"
    quiet = look(*RULES, view="contracts", sort="-quiet", count=1_200)["contracts"]
    told = [row["quiet"] if row["quiet"] is not None else 9 for row in quiet]
    assert told == sorted(told, reverse=True)
    assert {row["quiet_at_least"] for row in quiet} == {4}


def test_rules_on_names_and_tickets_report_and_aim(look):
    page = look("is_call", "1.5e9 <= market_cap <= 8e9", "premium >= 5000", "sector", "since <= 0.5", "1 +", aim=100)
    kinds = [rule["kind"] for rule in page["rules"]]
    assert kinds == ["condition", "range", "range", "choice", "range", "condition"]
    counts = [rule["survivors"] for rule in page["rules"][:3]]
    assert counts == sorted(counts, reverse=True)
    assert page["rules"][1]["label"] == "Market capitalisation"
    assert page["rules"][2]["histogram"]["counts"]
    assert sum(page["rules"][2]["histogram"]["counts"]) == page["rules"][2]["reached"]
    assert sum(c["count"] for c in page["rules"][3]["choices"]) == page["rules"][3]["reached"] == counts[2]
    assert page["rules"][5]["error"]["message"]
    edge = next(edge for edge in page["rules"][2]["aim"] if edge["edge"] == "lower")
    again = look("is_call", "1.5e9 <= market_cap <= 8e9", f"premium >= {edge['value']}", "since <= 0.5")
    assert again["survivors"] == edge["names"] == pytest.approx(100, abs=2)


def test_shorter_bars_and_earlier_sessions_are_refused_in_words(client: FlaskClient):
    body = {"stack": {"universe": "stock", "rules": [{"text": "close > 10", "bars": "15"}], "any_groups": []}}
    rule = client.post("/api/tape", json=body).json["rules"][0]
    assert "Put this rule on daily bars" in rule["error"]["message"]
    checked = client.post("/api/check", json={"text": "mean(premium, 5) > 1", "table": "tickets"}).json
    assert "which only a name has" in checked["message"]
    assert client.post("/api/check", json={"text": "premium > 1"}).json["message"], "names have no premium of a ticket"
    assert client.post("/api/check", json={"text": "premium > 1", "table": "tickets"}).json["kind"] == "condition"


def test_times_of_the_day(look):
    whole, morning = look(*RULES), look(*RULES, until="10:30")
    assert 0 < morning["survivors"] < whole["survivors"]
    assert not morning["newest"]
    assert morning["moment"].startswith("2026-09-09T10:30")
    assert look(*RULES, until="15:59")["survivors"] == whole["survivors"], "a time that has not come is now"
    refused = look(*RULES, until="09:30", status=422)
    assert refused["type"] == "no_such_time"
    assert refused["where"] == "until"
    look(*RULES, until="25:00", status=422)
    past = look(*RULES, as_of="2026-09-04", until="12:00")
    assert past["session"] == "2026-09-04"
    assert past["sessions"] == ["2026-09-02", "2026-09-03", "2026-09-04"]


def test_a_session_without_a_tape_has_none(look):
    page = look(*RULES, as_of="2026-03-18")
    assert (page["universe"], page["survivors"], page["total"]) == (0, 0, 0)
    for view in ("tickets", "contracts", "day"):
        assert look(*RULES, as_of="2026-03-18", view=view)["survivors"] == 0


def test_a_name_on_its_price(client: FlaskClient, look, market: View):
    symbol = look(*RULES)["names"][0]["symbol"]
    page = client.post("/api/tape/name", json={"stack": stack(*RULES), "symbol": symbol}).json
    row = market.row(symbol)
    tickets = look(*RULES, f'symbol == "{symbol}"', view="tickets", count=1_200)["tickets"]
    assert page["tickets"] == len(tickets)
    assert page["price"] == pytest.approx(market.price(row))
    assert page["previous_close"] == pytest.approx(market.previous_close(row))
    leaning = [t for t in tickets if t["since"] is not None]
    weights = [t["premium"] for t in leaning]
    assert page["since"] == pytest.approx(np.average([t["since"] for t in leaning], weights=weights), rel=1e-5)
    pointed: dict[tuple, float] = {}
    for t in leaning:
        pointed[t["strike"], t["is_call"], t["expiration"]] = (
            pointed.get((t["strike"], t["is_call"], t["expiration"]), 0) + t["premium"]
        )
    assert page["pointed"][0]["premium"] == pytest.approx(max(pointed.values()), rel=1e-6)
    assert len(page["minutes"]) == len(page["prices"]) == 375
    assert client.post("/api/tape/name", json={"stack": stack(), "symbol": "NOBOD"}).status_code == 404


def test_the_fills_of_a_ticket(client: FlaskClient, look):
    swept = look('ticket_kind in ("sweep", "split")', "premium >= 20000", view="tickets", count=40)["tickets"]
    for ticket in swept[:12]:
        found = client.get(
            f"/api/tape/fills/{ticket['symbol']}", query_string={"session": ticket["session"], "place": ticket["place"]}
        ).json
        assert found["total"] == ticket["fills"] == len(found["fills"]) >= 2
        assert sum(fill["contracts"] for fill in found["fills"]) == ticket["contracts"]
        paid = sum(fill["contracts"] * fill["price"] for fill in found["fills"])
        assert paid / ticket["contracts"] == pytest.approx(ticket["price"], abs=1e-4)
        assert found["fills"][0]["at"] == ticket["at"]
        if ticket["kind"] == "sweep":
            assert len({fill["venue"] for fill in found["fills"]}) >= 2
    nothing = client.get(
        f"/api/tape/fills/{swept[0]['symbol']}", query_string={"session": "2026-09-09", "place": 999_999}
    )
    assert nothing.json == {"fills": [], "total": 0}


@pytest.mark.parametrize("view", ["names", "tickets", "contracts"])
def test_survivors_as_files(client: FlaskClient, look, view: str):
    asked = {"stack": stack(*RULES, "nonsense >"), "view": view, "name": 'a "tape"\r\nx'}
    page = look(*RULES, view=view, count=1_200)
    text = taken(client, "/api/tape/export", asked | {"format": "csv"}).get_data(as_text=True)
    rows = list(csv.reader(io.StringIO(text)))
    assert any(page["symbols"][0] in row for row in rows)
    told = taken(client, "/api/tape/export", asked | {"format": "json"})
    assert "\r" not in told.headers["Content-Disposition"]
    sheet = json.loads(told.get_data())
    assert len(sheet["rows"]) == page["total"]
    assert "not its owner" in json.dumps(sheet) or "not about its owner" in json.dumps(sheet)
    assert taken(client, "/api/tape/export", asked | {"format": "xlsx"}).get_data()[:2] == b"PK"


@pytest.mark.parametrize("starter", TAPE_STARTERS, ids=lambda starter: starter.key)
def test_every_starter_finds_somebody_and_explains_itself(look, starter):
    body = starter.body
    page = look(*[rule.text for rule in body.rules], universe=body.universe, sort=body.sort[0], sessions=body.sessions)
    assert all(rule["error"] is None for rule in page["rules"])
    assert 0 < page["total"] <= 150, "few enough names to walk through"
    assert starter.description.count(". ") + starter.description.endswith(".") >= 3
    assert body.table == "tickets"


def test_screens_of_tickets_are_kept_with_what_they_are_on(client: FlaskClient):
    body = {
        "table": "tickets",
        "universe": "stock",
        "rules": [{"text": "premium >= 20000"}],
        "view": "contracts",
        "sessions": 3,
    }
    saved = client.post("/api/screens", json={"name": "large tickets", "body": body}).json
    listed = client.get("/api/screens").json
    mine = next(screen for screen in listed["saved"] if screen["id"] == saved["id"])
    assert (mine["body"]["table"], mine["body"]["sessions"], mine["body"]["view"]) == ("tickets", 3, "contracts")
    assert {starter["body"]["table"] for starter in listed["starters"]} == {"names", "tickets", "structures"}
    client.delete(f"/api/screens/{saved['id']}")
