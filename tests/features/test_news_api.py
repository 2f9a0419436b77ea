"""Headlines over HTTP: what had been told by a session, of whom, and which bar it belongs to."""

import datetime as dt

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.feeds.simulated import SimulatedMarket
from flinch.market import PLAIN, View

DAY = "2026-08-20"


def moments(rows) -> list[dt.datetime]:
    return [dt.datetime.fromisoformat(row["at"]) for row in rows]


def closes(market: View) -> list[dt.datetime]:
    return [market.hours.closes(day) for day in market.sessions]


@pytest.mark.parametrize("as_of", [None, DAY])
def test_facts_tell_what_was_told_by_then_and_metrics_count_it(
    client: FlaskClient, market: View, simulated: SimulatedMarket, as_of: str | None
):
    ends = closes(market)
    last = market.last if as_of is None else market.sessions.index(dt.date.fromisoformat(as_of))
    now = market.as_of if as_of is None else ends[last]
    counts, ages = (market.at(last).metric(key) if as_of else market.metric(key) for key in ("news_count", "news_age"))
    symbols = [name.symbol for name in market.frame.names if name.kind == "stock"][::9]
    some = 0
    for symbol in symbols:
        row = market.row(symbol)
        told = client.get(f"/api/dossier/facts/{symbol}", query_string={"as_of": as_of} if as_of else {}).json["news"]
        at = moments(told)
        assert at == sorted(at, reverse=True)
        assert all(moment <= now for moment in at)
        assert counts[row] == sum(moment > ends[last - 5] for moment in at), symbol
        sessions = [next((place for place, end in enumerate(ends) if moment <= end), last) for moment in at]
        assert ages[row] == last - sessions[0], symbol
        some += len(told)
        # They are those that were made, to the word.
        made = simulated.news.filter(name=row)
        words = dict(zip(made["at"].to_list(), made["headline"].to_list(), strict=True))
        for one, moment in zip(told, at, strict=True):
            assert one["headline"] == words[moment.astimezone(dt.UTC).replace(tzinfo=None)]
    assert some > 5 * len(symbols)


def test_funds_and_indices_have_what_is_about_all(client: FlaskClient, market: View):
    fund = next(name.symbol for name in market.frame.names if name.kind == "fund")
    told = client.get(f"/api/dossier/facts/{fund}").json["news"]
    assert {row["topic"] for row in told} == {"market"}
    assert len(told) == 40
    # Today has not ended: the newest is of the close before.
    assert moments(told)[0].date() == market.sessions[-2]
    assert market.metric("news_count")[market.row(fund)] == 0


@pytest.mark.parametrize("length", ["day", "60"])
def test_each_headline_is_at_the_bar_in_which_it_was_told_or_the_next(client: FlaskClient, market: View, length: str):
    ends = closes(market)
    for symbol in ("VUSVO", "GISKO", "BELUA"):
        query = {"length": length, "layers": "news"}
        found = client.get(f"/api/dossier/price/{symbol}", query_string=query).json
        at = [dt.datetime.fromisoformat(moment) for moment in found["at"]]
        day = [found["sessions"][place] for place in found["day"]]
        bars = [mark["bar"] for mark in found["news"]]
        assert bars == sorted(set(bars))
        first = dt.datetime.combine(dt.date.fromisoformat(day[0]), dt.time(), market.hours.zone)
        listed = client.get(f"/api/dossier/facts/{symbol}").json["news"]
        drawn = [row for mark in found["news"] for row in mark["headlines"]]
        assert [row for row in listed if dt.datetime.fromisoformat(row["at"]) > first] == sorted(
            (row for row in drawn if row in listed), key=lambda row: row["at"], reverse=True
        )
        for mark in found["news"]:
            told = moments(mark["headlines"])
            assert told == sorted(told, reverse=True)
            for moment in told:
                session = next(place for place, end in enumerate(ends) if moment <= end)
                assert day[mark["bar"]] == str(market.sessions[session])
                assert session == 0 or moment > ends[session - 1]
                within = at[mark["bar"]] <= moment
                after = mark["bar"] + 1 == len(at) or moment < at[mark["bar"] + 1]
                before_open = moment < market.hours.opens(market.sessions[session])
                assert after
                assert within or (before_open and at[mark["bar"]].astimezone(market.hours.zone).hour == 9)
    assert client.get("/api/dossier/price/VUSVO").json["news"] == [], "not asked for"


def test_the_peek_has_the_newest_headline_until_five_sessions_went_by(client: FlaskClient, market: View):
    ages = market.metric("news_age")
    stocks = np.array([name.kind == "stock" for name in market.frame.names])
    for age in range(7):
        row = int(np.flatnonzero(stocks & (ages == age))[0])
        symbol = market.name(row).symbol
        news = client.get(f"/api/peek/{symbol}").json["news"]
        if age < 5:
            newest = client.get(f"/api/dossier/facts/{symbol}").json["news"][0]
            assert news == {"at": newest["at"], "headline": newest["headline"]}
        else:
            assert news is None
    row = int(np.flatnonzero(stocks & (ages == 0))[0])
    past = client.get(f"/api/peek/{market.name(row).symbol}?as_of={DAY}").json["news"]
    assert past is None or dt.datetime.fromisoformat(past["at"]) <= market.hours.closes(dt.date.fromisoformat(DAY))


def test_rules_ask_for_news(client: FlaskClient, market: View):
    values = market.column(PLAIN.read("headlines").node).values
    answer = client.post("/api/screen", json={"stack": {"universe": "all", "rules": [{"text": "news_age == 0"}]}})
    assert answer.status_code == 200, answer.text
    assert len(answer.json["symbols"]) == int((values > 0).sum()) > 10
