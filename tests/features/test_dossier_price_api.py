"""The Dossier's price over HTTP: bars of any length, and layers that are what rules see."""

import datetime as dt
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.core.rules import evaluate
from flinch.core.rules.catalogue import BAR_KEYS
from flinch.features.dossier.price_schemas import LAYERS
from flinch.market import PLAIN, View
from flinch.market.tickets import ticket_table

NEW_YORK = ZoneInfo("America/New_York")


@pytest.fixture
def ask(client: FlaskClient):
    def asked(symbol: str, status=200, **query):
        answer = client.get(f"/api/dossier/price/{symbol}", query_string=query)
        assert answer.status_code == status, answer.text
        return answer.json

    return asked


def numbers(values) -> np.ndarray:
    return np.array([np.nan if value is None else value for value in values])


def test_bars_of_a_day_are_those_of_the_market(ask, market: View):
    found, row = ask("VUSVO"), market.row("VUSVO")
    assert found["sessions"] == [str(day) for day in market.sessions]
    for key in BAR_KEYS:
        np.testing.assert_array_equal(numbers(found[key]), getattr(market.frame, key)[row])
    assert all(found["regular"])
    assert found["lines"] == found["fans"] == found["levels"] == [], "no layer was asked for"


@pytest.mark.parametrize("length", ["day", "60", "15", "5"])
def test_layers_are_what_rules_see_to_the_last_bit(ask, market: View, length: str):
    layers = ["averages", "bollinger", "keltner", "squeeze", "channel", "swings", "gaps"]
    averages = "sma 20, ema 21, wma 8"
    found = ask("VUSVO", length=length, layers=layers, averages=averages, channel=30, deviations=1.5)
    row, version = market.row("VUSVO"), market.version

    def rule(text: str) -> np.ndarray:
        if length == "day":
            return market.history(PLAIN.read(text).node, row)
        bars = version.bars(int(length), version.last)
        panel = version._intraday_panel(bars).only(np.array([row]))
        drawn = np.isfinite(bars.close[row])
        return np.asarray(evaluate([PLAIN.read(text, length).node], panel, 0, bars.close.shape[1])[0])[0][drawn]

    assert [line["label"] for line in found["lines"]][:3] == averages.split(", ")
    assert len(found["lines"]) == 7
    for line in found["lines"]:
        np.testing.assert_array_equal(numbers(line["values"]), rule(line["expression"]), err_msg=line["expression"])
    channel = found["channel"]
    assert channel["end"] == rule("channel(close, 30, 0)")[-1]
    assert channel["end"] + channel["width"] == pytest.approx(rule("channel(close, 30, 1.5)")[-1], rel=1e-12)
    slope, start = np.polyfit(np.arange(30), numbers(found["close"])[-30:], 1)
    assert channel["begin"] == pytest.approx(start)
    assert channel["end"] == pytest.approx(start + 29 * slope)
    assert channel["last"] - channel["first"] == 29
    swings, extensions = found["swings"], [level for level in found["levels"] if level["layer"] == "swings"]
    assert [swing["price"] for swing in swings if swing["high"]][-1] == rule("swing_high(5)")[-1]
    assert [swing["price"] for swing in swings if not swing["high"]][-1] == rule("swing_low(5)")[-1]
    for level, ratio in zip(extensions, (1.272, 1.618, 2.0), strict=True):
        assert level["price"] == rule(f"fib_extension({ratio})")[-1]
    for above, text in ((True, "gap_above(126)"), (False, "gap_below(126)")):
        fills = [gap["fill"] for gap in found["gaps"] if gap["above"] == above]
        assert fills[-1] == rule(text)[-1] if fills else np.isnan(rule(text)[-1])


def test_the_squeeze_is_on_where_rules_have_it(ask, market: View):
    found = ask("VUSVO", layers=["squeeze"])
    on = market.history(PLAIN.read("squeeze_on").node, market.row("VUSVO")) == 1
    assert 0 < on.sum() < on.size
    assert found["squeeze"] == np.flatnonzero(on).tolist()


@pytest.mark.parametrize("length", ["60", "15", "5", "1"])
def test_all_hours_have_the_regular_bars_and_more(ask, length: str):
    regular, every = ask("VUSVO", length=length), ask("VUSVO", length=length, extended="true")
    inside = [i for i, told in enumerate(every["regular"]) if told]
    assert len(inside) < len(every["at"])
    assert [every["at"][i] for i in inside] == regular["at"]
    for key in BAR_KEYS:
        np.testing.assert_allclose([every[key][i] for i in inside], regular[key], rtol=1e-12)
    minutes = [dt.datetime.fromisoformat(at).astimezone(NEW_YORK) for at in every["at"]]
    assert minutes == sorted(minutes)
    clock = np.array([60 * at.hour + at.minute for at in minutes])
    np.testing.assert_array_equal((clock >= 570) & (clock < 960), every["regular"])
    assert clock.min() < 570
    assert clock.max() >= 960
    assert [str(at.date()) for at in minutes] == [every["sessions"][day] for day in every["day"]]


def test_an_hour_is_its_minutes_together(ask):
    hours, minutes = ask("VUSVO", length="60"), ask("VUSVO", length="1")
    at = np.array([dt.datetime.fromisoformat(moment) for moment in minutes["at"]])
    for i in (0, 6, len(hours["at"]) - 1):
        begin = dt.datetime.fromisoformat(hours["at"][i])
        mine = (at >= begin) & (at < begin + dt.timedelta(hours=1)) & (numbers(minutes["day"]) == hours["day"][i])
        assert hours["high"][i] == numbers(minutes["high"])[mine].max()
        assert hours["low"][i] == numbers(minutes["low"])[mine].min()
        assert hours["close"][i] == numbers(minutes["close"])[mine][-1]
        assert hours["volume"][i] == pytest.approx(numbers(minutes["volume"])[mine].sum())


def test_the_day_s_move_opens_from_the_close_before(ask, market: View):
    found = ask("VUSVO", length="15", layers=["fans"])
    row, moves = market.row("VUSVO"), market.history(PLAIN.read("one_day_move").node, market.row("VUSVO"))
    assert len(found["fans"]) == 10
    for back, fan in ((2, found["fans"][-2]), (3, found["fans"][-3])):
        session = market.end - back
        before = market.frame.close[row, session - 1]
        assert fan["lower"][0] == fan["upper"][0] == before
        assert found["day"][fan["bars"][0]] == found["day"][fan["bars"][1]] - 1
        # At the close the whole move, after a quarter of the session half of it.
        assert fan["upper"][-1] == pytest.approx(before + moves[session])
        assert fan["lower"][-1] == pytest.approx(before - moves[session])
        assert len(fan["bars"]) == 27
        assert fan["upper"][13] == pytest.approx(before + moves[session] * np.sqrt(13 / 26))
    assert [fan["current"] for fan in found["fans"]] == [False] * 9 + [True]


def test_weeks_and_months_are_those_of_the_expected_move_part(ask, client: FlaskClient):
    found = ask("VUSVO", layers=["fans"])
    moves = client.get("/api/dossier/expected-move/VUSVO").json
    days = found["sessions"] + found["ahead"]
    assert found["ahead"][0] > found["sessions"][-1]
    for mine, other in zip(found["fans"], moves["fans"], strict=True):
        assert [days[bar] for bar in mine["bars"]] == other["sessions"]
        assert (mine["lower"], mine["upper"]) == (other["lower"], other["upper"])


def test_levels_are_those_of_the_other_parts(ask, client: FlaskClient, market: View):
    found = ask("VUSVO", layers=["day", "gamma", "shelves"])
    row = market.row("VUSVO")
    levels = {level["label"]: level["price"] for level in found["levels"] if level["layer"] != "shelves"}
    assert levels["high before"] == market.frame.high[row, -2]
    assert levels["low before"] == market.frame.low[row, -2]
    assert levels["flip"] == market.metric("flip")[row]
    assert levels["peak exposure"] == market.metric("peak_exposure_strike")[row]
    assert levels["peak interest"] == market.metric("peak_interest_strike")[row]
    shelves = [level for level in found["levels"] if level["layer"] == "shelves"]
    told = client.get("/api/dossier/prints/VUSVO").json["shelves"]
    assert [round(shelf["price"], 2) for shelf in reversed(shelves)] == [shelf["price"] for shelf in told]
    assert [shelf["share_pct"] for shelf in reversed(shelves)] == pytest.approx([shelf["share_pct"] for shelf in told])


def test_the_largest_tickets_stand_in_the_bars_in_which_they_came(ask, market: View):
    found, table = ask("VUSVO", length="5", layers=["tickets"]), ticket_table(market)
    mine = np.flatnonzero(table.name == market.row("VUSVO"))
    assert len(found["tickets"]) == 40 < mine.size
    premium = np.sort(table.values("premium")[mine])[::-1]
    assert sorted((t["premium"] for t in found["tickets"]), reverse=True) == pytest.approx(premium[:40])
    times = [dt.datetime.fromisoformat(at) for at in found["at"]]
    for ticket in found["tickets"]:
        moment = dt.datetime.fromisoformat(ticket["at"])
        assert times[ticket["bar"]] <= moment < times[ticket["bar"]] + dt.timedelta(minutes=5)
        assert ticket["words"].endswith({1: "ask side", 0: "mid side", -1: "bid side"}[ticket["side"]])
    days = ask("VUSVO", layers=["tickets"])
    for ticket in days["tickets"]:
        assert ticket["at"][:10] == days["sessions"][days["day"][ticket["bar"]]]


def test_reports_and_dividends_stand_where_they_were(ask, market: View):
    row = market.row("BRIVI")
    found = ask("BRIVI", layers=["events"])
    told = {(found["sessions"][event["bar"]], event["kind"]) for event in found["events"]}
    reports = {
        (str(report.session), "report") for report in market.reports(row) if str(report.session) in found["sessions"]
    }
    assert len(reports) >= 6
    assert {event for event in told if event[1] == "report"} == reports
    assert any(kind == "dividend" for _, kind in told)


def test_a_metric_below_is_that_of_rules_and_says_why_it_has_none(ask, market: View):
    row = market.row("VUSVO")
    iv, held = ask("VUSVO", below=["iv30", "close > sma(close, 50)"])["below"]
    assert (iv["label"], iv["unit"], iv["reason"]) == ("Implied volatility, 30 days", "%", None)
    np.testing.assert_array_equal(numbers(iv["values"]), market.history(PLAIN.read("iv30").node, row))
    assert set(numbers(held["values"])[60:].tolist()) == {0.0, 1.0}
    (daily,) = ask("VUSVO", length="15", below="iv30")["below"]
    assert "daily value" in daily["reason"]
    assert set(daily["values"]) == {None}
    (broken,) = ask("VUSVO", below="rsi(")["below"]
    assert "bracket" in broken["reason"]
    (words,) = ask("VUSVO", below="sector")["below"]
    assert "no history" in words["reason"]


def test_as_of_an_earlier_session_its_minutes_and_none_that_are_not_kept(ask):
    found = ask("VUSVO", length="15", as_of="2026-09-03", layers=LAYERS)
    assert found["sessions"][-1] == found["session"] == "2026-09-03"
    assert len(found["at"]) == 7 * 26
    before = ask("VUSVO", length="15", as_of="2026-03-02", layers=LAYERS)
    assert before["at"] == []
    assert "are not kept; choose bars of a day" in before["reason"]
    assert ask("VUSVO", as_of="2026-03-02")["reason"] is None


def test_averages_are_written_one_way_however_they_come(ask):
    lines = ask("VUSVO", layers=["averages"], averages="sma20,ema 021 , wma 5")["lines"]
    assert [line["label"] for line in lines] == ["sma 20", "ema 21", "wma 5"]
    assert [line["expression"] for line in lines] == ["sma(close, 20)", "ema(close, 21)", "wma(close, 5)"]


def test_an_index_has_its_layers_without_tickets_and_a_name_that_is_not_listed_none(ask):
    index = ask("MUFEO", layers=LAYERS)
    assert index["reason"] is None
    assert [level for level in index["levels"] if level["layer"] == "shelves"] == [], "it has no prints"
    assert ask("NOSUCH", status=404)["type"] == "unknown_name"


@pytest.mark.parametrize(
    ("asked", "where", "words"),
    [
        ({"layers": ["fans", "clouds"]}, "layers.1", "should be 'averages', 'bollinger'"),
        (
            {"averages": "sma 0"},
            "averages",
            "'sma 0' is no average. Write sma, ema or wma and how many bars, as in ema 21.",
        ),
        ({"averages": "sma twenty"}, "averages", "is no average"),
        ({"averages": "sma 1,sma 2,sma 3,sma 4,sma 5"}, "averages", "at most 4 averages, not 5."),
        ({"channel": 2}, "channel", "greater than or equal to 3"),
        ({"deviations": 0}, "deviations", "greater than 0"),
        ({"length": "7"}, "length", "'15'"),
        ({"below": ["iv30", "iv60", "iv90"]}, "below", "at most 2"),
    ],
)
def test_what_cannot_be_drawn_is_refused_with_what_to_do(ask, asked: dict, where: str, words: str):
    refused = ask("VUSVO", status=422, **asked)
    assert refused["where"] == where
    assert words in refused["message"]
    assert ".." not in refused["message"]
