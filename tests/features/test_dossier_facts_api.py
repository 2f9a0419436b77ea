"""The Dossier's facts over HTTP: what was reported and when it became known, and what can be trusted of it."""

import datetime as dt

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine, text

from flinch.market import View


@pytest.fixture
def ask(client: FlaskClient):
    def asked(symbol: str, status=200, **query):
        answer = client.get(f"/api/dossier/facts/{symbol}", query_string=query)
        assert answer.status_code == status, answer.text
        return answer.json

    return asked


def test_figures_are_those_that_rules_see_and_newest_first(ask, market: View):
    found, row = ask("VUSVO"), market.row("VUSVO")
    newest = found["quarters"][0]
    fields = {"eps_ttm": "eps_ttm", "book": "book_per_share", "sales_ttm": "sales_per_share", "fcf_ttm": "fcf_per_share",
              "debt_to_equity": "debt_to_equity"}  # fmt: skip
    for figure, metric in fields.items():
        assert newest["first"][figure] == pytest.approx(market.metric(metric)[row]), metric
    assert newest["second"]["book"] == pytest.approx(market.metric("book_per_share_second")[row])
    assert newest["age_days"] == market.metric("fundamentals_age")[row]
    periods = [quarter["period_end"] for quarter in found["quarters"]]
    assert periods == sorted(periods, reverse=True)
    assert len(periods) == 12
    for quarter in found["quarters"]:
        assert quarter["period_end"] < quarter["first"]["known_on"] <= found["session"]
    ratios = {ratio["key"]: ratio for ratio in found["ratios"]}
    assert ratios["price_to_book"]["value"] == pytest.approx(market.metric("price_to_book")[row])
    assert ratios["market_cap"]["value"] == pytest.approx(market.price(row) * found["shares_outstanding"])


def test_below_book_is_new_always_so_or_one_source_s_opinion(ask, stories, engine: Engine, market: View):
    new = ask(stories["cheap against book, and never was"].symbol)
    assert new["book_says"] == "Below book for 21 sessions, by both sources."
    close = market.frame.close[market.row(new["symbol"])]
    assert close[-21:].max() < new["quarters"][0]["first"]["book"] <= close[-22]
    always = ask(stories["cheap against book, and always is"].symbol)
    assert always["book_says"] == "Below book in every session held, by both sources."
    apart = ask(stories["two sources disagree on book value"].symbol)
    assert apart["book_says"] == "Above book by both sources; the sources are 26 % apart."
    newest = apart["quarters"][0]
    gap = 100 * (newest["first"]["book"] / newest["second"]["book"] - 1)
    assert newest["apart"] == {"book": pytest.approx(gap)}
    stale = ask(stories["figures gone stale"].symbol)
    assert stale["stale"]
    assert stale["quarters"][0]["age_days"] > 365
    assert stale["book_says"] == "Above book by both sources; the figure is old: a newer report is overdue."
    assert not ask("VUSVO")["stale"]
    # By one source alone: where its ratio lies across one from the other's.
    first, second = market.metric("price_to_book"), market.metric("price_to_book_second")
    for row in np.flatnonzero((first < 1) != (second < 1)):
        if np.isfinite(first[row] + second[row]):
            source = 1 if first[row] < 1 else 2
            other = (second if source == 1 else first)[row]
            words = ask(market.name(int(row)).symbol)["book_says"]
            assert f"by source {source} alone: the other has {other:.2f}" in words


def test_what_is_new_says_so(ask, market: View):
    symbol = "SLELU"
    found = ask(symbol, as_of=str(market.sessions[-20]))
    assert found["book_says"] == "Below book for 2 sessions, by both sources; that is new."
    before = ask(symbol, as_of=str(market.sessions[-22]))
    assert before["book_says"] == "Above book by both sources."


def test_nothing_is_told_before_it_was_known(ask, market: View, engine: Engine):
    found = ask("BRIVI", as_of="2026-03-02")
    for rows, key in (("estimates", "known_on"), ("short_interest", "known_on"), ("dividends", "declared_on")):
        days = [row[key] for row in found[rows]]
        assert days, rows
        assert max(days) <= "2026-03-02", rows
    assert max(q["first"]["known_on"] for q in found["quarters"]) <= "2026-03-02"
    assert all(report["session"] <= "2026-03-02" for report in found["reports"])
    later = ask("BRIVI")
    assert len(later["short_interest"]) > len(found["short_interest"])


def test_short_interest_dividends_and_estimates_are_those_of_the_catalogue(ask, market: View):
    found, row = ask("BRIVI"), market.row("BRIVI")
    newest, before = found["short_interest"][:2]
    assert newest["shares"] == market.metric("short_shares")[row]
    assert newest["float_pct"] == pytest.approx(market.metric("short_percent_float")[row])
    assert newest["change_pct"] == pytest.approx(market.metric("short_change")[row])
    assert before["shares"] == market.metric("short_shares_before")[row]
    assert found["short_interest"][-1]["change_pct"] is None or len(found["short_interest"]) == 60
    assert found["estimates"][0]["eps_next_year"] == pytest.approx(market.metric("eps_next_year")[row])
    assert found["estimates"][0]["fair_value"] == pytest.approx(market.metric("fair_value")[row])
    year = dt.date(2026, 9, 9) - dt.timedelta(days=365)
    paid = sum(d["amount"] for d in found["dividends"] if str(year) < d["ex_date"] <= "2026-09-09")
    assert paid == pytest.approx(market.metric("dividend_ttm")[row])
    assert paid > 0
    assert all(d["ahead"] == (d["ex_date"] > "2026-09-09") for d in found["dividends"])


def test_funds_and_their_members_know_each_other(ask):
    fund = ask("FELRO")
    assert (fund["kind"], fund["quarters"], fund["book_says"]) == ("fund", [], None)
    weights = [member["weight_pct"] for member in fund["members"]]
    assert weights == sorted(weights, reverse=True)
    assert sum(weights) == pytest.approx(100)
    member = ask(fund["members"][0]["symbol"])
    (mine,) = [held for held in member["funds"] if held["symbol"] == "FELRO"]
    assert mine["weight_pct"] == weights[0]
    assert member["members"] == []


def test_reports_are_those_of_the_volatility_part(ask, client: FlaskClient):
    assert ask("BRIVI")["reports"] == client.get("/api/dossier/volatility/BRIVI").json["reports"]


def test_every_name_has_its_facts(ask, market: View):
    for row in range(0, len(market.frame.names), 41):
        found = ask(market.name(row).symbol)
        for ratio in found["ratios"]:
            assert (ratio["value"] is None) == (ratio["reason"] is not None), ratio
    assert ask("NOSUCH", status=404)["type"] == "unknown_name"


def test_one_source_alone_and_a_missing_figure_are_told_as_such(ask, engine: Engine, market: View):
    row = market.row("TARNO")
    with engine.begin() as connection:
        kept = connection.execute(
            text("SELECT * FROM fundamental WHERE name_id = :id AND source = 2"), {"id": market.id(row)}
        ).mappings().all()  # fmt: skip
        connection.execute(text("DELETE FROM fundamental WHERE name_id = :id AND source = 2"), {"id": market.id(row)})
    try:
        found = ask("TARNO")
        assert {quarter["second"] for quarter in found["quarters"]} == {None}
        assert all(quarter["apart"] == {} for quarter in found["quarters"])
    finally:
        with engine.begin() as connection:
            for told in kept:
                columns = ", ".join(told)
                values = ", ".join(f":{key}" for key in told)
                connection.execute(text(f"INSERT INTO fundamental ({columns}) VALUES ({values})"), dict(told))
    assert ask("TARNO")["quarters"][0]["second"] is not None
