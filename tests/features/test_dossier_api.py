"""The Dossier, the Peek and the frame's addresses, through HTTP on a real database."""

import datetime as dt
import math
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.core.rules import FUNCTIONS, METRICS
from flinch.core.volatility import ESTIMATORS, historical_vol
from flinch.market import View

ZONE = ZoneInfo("America/New_York")
AS_OF = dt.datetime(2026, 9, 9, 15, 45, tzinfo=ZONE).astimezone(dt.UTC)


def days_left(expiration: str) -> float:
    """Days from the as-of instant to 16:00 exchange time, the hour of summer time included."""
    end = dt.datetime.combine(dt.date.fromisoformat(expiration), dt.time(16), ZONE)
    return (end.astimezone(dt.UTC) - AS_OF).total_seconds() / 86_400


@pytest.fixture
def tarno(client: FlaskClient) -> dict:
    return client.get("/api/dossier/TARNO").json


def test_the_days_move_stands_against_the_move_priced_for_it(tarno: dict, market: View):
    today = tarno["today"]
    nearest = next(row for row in tarno["expiries"] if row["vol"] is not None)
    assert today["priced_by"] == nearest["expiration"]
    # What was priced at the close before, for today; and what is priced now, for the next session.
    row = market.row("TARNO")
    before = market.frame.daily["iv_nearest"][row, -2]
    assert today["one_day_move"] == pytest.approx(today["previous_close"] * before / math.sqrt(252))
    assert today["next_day_move"] == pytest.approx(today["price"] * nearest["vol"] / 100 / math.sqrt(252))
    assert today["spent_pct"] == pytest.approx(100 * abs(today["change"]) / today["one_day_move"])
    assert today["change"] == pytest.approx(today["price"] - today["previous_close"])


def test_the_day_so_far_stands_against_what_was_priced_for_the_time_gone(
    client: FlaskClient, tarno: dict, market: View
):
    """At a quarter to four 375 of 390 minutes have gone by; what comes before the open is TARNO's own."""
    today, row, frame = tarno["today"], market.row("TARNO"), market.frame
    gaps = ranges = 0.0
    for day in range(-64, -1):
        gaps += math.log(frame.open[row, day] / frame.close[row, day - 1]) ** 2
        ranges += math.log(frame.high[row, day] / frame.low[row, day]) ** 2 / (4 * math.log(2))
    before = gaps / (gaps + ranges)
    gone = before + (1 - before) * 375 / 390
    so_far = today["so_far"]
    assert so_far["before_open_pct"] == pytest.approx(100 * before)
    assert so_far["gone_pct"] == pytest.approx(100 * gone)
    assert so_far["expected_pct"] == pytest.approx(today["one_day_move_pct"] * math.sqrt(gone))
    assert so_far["spent_pct"] == pytest.approx(today["spent_pct"] / math.sqrt(gone))
    assert client.get("/api/dossier/TARNO?as_of=2026-09-08").json["today"]["so_far"] is None, "that day is over"


def test_a_day_that_reacts_to_a_report_is_not_measured_by_its_time(client: FlaskClient, market: View):
    reacting = {
        market.name(row).symbol
        for row, reports in market.frame.reports.items()
        for report in reports
        if market.reaction(report) == market.last
    }
    assert reacting
    for symbol in reacting:
        assert client.get(f"/api/dossier/{symbol}").json["today"]["so_far"] is None


@pytest.mark.parametrize("estimator", ESTIMATORS)
@pytest.mark.parametrize("window", [10, 63])
def test_any_estimator_and_window_can_be_chosen(client: FlaskClient, market: View, estimator: str, window: int):
    year = client.get(f"/api/dossier/BELUA?estimator={estimator}&window={window}").json["year"]
    bars = market.frame.bars(market.row("BELUA"))
    expected = 100 * historical_vol(*bars, window, estimator=estimator)[-252:]
    assert len(year["sessions"]) == 252
    assert year["hv"] == pytest.approx(expected.tolist(), abs=1e-3)


def test_rank_and_percentile_can_be_checked_from_what_is_shown(tarno: dict):
    standing, year = tarno["standing"], tarno["year"]["iv30"]
    assert standing["low"] == pytest.approx(min(year), abs=1e-3)
    assert standing["high"] == pytest.approx(max(year), abs=1e-3)
    assert tarno["year"]["sessions"][year.index(max(year))] == standing["high_on"]
    assert standing["below"] == sum(v < year[-1] for v in year[:-1])
    assert standing["percentile"] == pytest.approx(100 * standing["below"] / (standing["observed"] - 1))
    assert standing["rank"] == pytest.approx(
        100 * (standing["last"] - standing["low"]) / (standing["high"] - standing["low"])
    )


def test_expected_moves_reach_every_listed_expiration(tarno: dict):
    rows = tarno["expiries"]
    assert len(rows) == 13
    assert [row["days"] for row in rows] == sorted(row["days"] for row in rows)
    for row in rows:
        assert row["upper"] - row["move"] == pytest.approx(tarno["today"]["price"])
        assert row["lower"] + row["move"] == pytest.approx(tarno["today"]["price"])
        assert row["move_pct"] == pytest.approx(row["vol"] * math.sqrt(days_left(row["expiration"]) / 365), rel=1e-9)
        assert row["straddle"] == pytest.approx(math.sqrt(2 / math.pi) * row["move"], rel=0.12)
    monthly = [row["expiration"] for row in rows if row["monthly"]]
    assert monthly[:3] == ["2026-09-18", "2026-10-16", "2026-11-20"]
    assert "2027-06-17" in monthly, "the session before a third Friday that is a holiday"


def test_earnings_inside_an_expiration_are_flagged(client: FlaskClient):
    kosvi = client.get("/api/dossier/KOSVI").json
    assert kosvi["next_report"] == {"session": "2026-09-10", "timing": "before_open", "days": 1}
    assert all(row["earnings_inside"] for row in kosvi["expiries"])
    helmu = client.get("/api/dossier/HELMU").json
    assert [row["earnings_inside"] for row in helmu["expiries"]][:3] == [False, False, True]


def test_constant_maturities_lie_on_the_term_structure(tarno: dict):
    tenors = {point["days"]: point["vol"] for point in tarno["tenors"]}
    assert sorted(tenors) == [7, 14, 30, 60, 90, 180, 365]
    days = [days_left(row["expiration"]) for row in tarno["expiries"]]
    variance = [row["vol"] ** 2 * left for row, left in zip(tarno["expiries"], days, strict=True)]
    assert tenors[30] == pytest.approx(math.sqrt(np.interp(30, days, variance) / 30), rel=1e-6)
    assert tenors[30] == pytest.approx(tarno["standing"]["last"])


def test_what_is_missing_says_why(client: FlaskClient):
    halted = client.get("/api/dossier/FENSO").json
    assert halted["today"]["reason"] is None, "today was priced the evening before"
    assert halted["today"]["spent_pct"] is not None
    assert halted["today"]["next_day_move"] is None
    assert halted["today"]["next_reason"] == "no usable option quotes in this session"
    assert halted["standing"]["reason"] == "no usable option quotes around thirty days ahead"
    assert all(row["vol"] is None and row["reason"] for row in halted["expiries"])
    assert halted["today"]["price"] is not None
    young = client.get("/api/dossier/PELDU").json
    assert young["standing"]["reason"] == "45 sessions observed, 60 are needed"
    assert young["standing"]["rank"] is None


@pytest.mark.parametrize(
    ("symbol", "nearest"),
    [("TARNA", "TARNO"), ("tarn", "TARNO"), ("Belua Beacon", "BELUA"), ("kosvi signals", "KOSVI")],
)
def test_an_unknown_symbol_proposes_the_nearest(client: FlaskClient, symbol: str, nearest: str):
    answer = client.get(f"/api/dossier/{symbol}")
    assert answer.status_code == 404
    assert nearest in answer.json["nearest"]
    assert "Did you mean" in answer.json["message"]


@pytest.mark.parametrize(
    "symbol", ["⟦▮⟧", "%00", "..", "'; DROP TABLE name; --", "%F0%9F%98%80", "%20", "a%2Fb", "%3Cscript%3E", "%FF%FE"]
)
@pytest.mark.parametrize("address", ["dossier", "peek"])
def test_strange_characters_are_no_name_and_no_failure(client: FlaskClient, address: str, symbol: str):
    answer = client.get(f"/api/{address}/{symbol}")
    assert answer.status_code == 404
    assert answer.json["message"]


def test_a_symbol_is_found_in_any_case(client: FlaskClient):
    assert client.get("/api/dossier/tarno").json["symbol"] == "TARNO"
    assert client.get("/api/peek/ tarno ").json["symbol"] == "TARNO"


@pytest.mark.parametrize(
    ("query", "field"),
    [("window=abc", "window"), ("window=1", "window"), ("window=9999", "window"), ("estimator=x", "estimator")],
)
def test_bad_choices_are_named(client: FlaskClient, query: str, field: str):
    answer = client.get(f"/api/dossier/TARNO?{query}")
    assert answer.status_code == 422
    assert answer.json["where"] == field


def test_too_long_a_symbol_is_refused(client: FlaskClient):
    assert client.get(f"/api/dossier/{'A' * 300}").status_code == 422


def test_the_peek_shows_every_metric_or_its_reason(client: FlaskClient, market: View):
    peek = client.get("/api/peek/FENSO").json
    assert set(peek["facts"]) <= set(METRICS)
    for fact in peek["facts"].values():
        assert (fact["value"] is None) == (fact["reason"] is not None)
    assert len(peek["sessions"]) == len(peek["iv30"]) == len(peek["hv21"]) == 252
    past = client.get("/api/peek/FENSO?as_of=2026-03-02").json
    assert past["session"] == past["sessions"][-1] == "2026-03-02"
    assert (
        past["facts"]["price"]["value"]
        == market.frame.close[market.row("FENSO"), market.session_on(dt.date(2026, 3, 2))]
    )


def test_the_frame_knows_the_market_and_all_names(client: FlaskClient):
    info = client.get("/api/market").json
    assert info["as_of"] == "2026-09-09T15:45:00-04:00"
    assert (info["names"], info["sessions"][0], info["sessions"][-1]) == (502, "2024-09-05", "2026-09-09")
    names = client.get("/api/names").json["names"]
    assert {"symbol": "TARNO", "company": "Tarno Lagoon Energy", "kind": "stock", "sector": "Tidal Power"} in names


def test_the_handbook_lists_every_metric_and_function(client: FlaskClient):
    handbook = client.get("/api/handbook").json
    assert [metric["key"] for metric in handbook["metrics"]] == list(METRICS)
    assert [function["name"] for function in handbook["functions"]] == list(FUNCTIONS)
    rank = next(metric for metric in handbook["metrics"] if metric["key"] == "iv_rank")
    assert (rank["needs"], rank["sessions"], rank["formula"]) == (["iv30"], 252, "range_pct(iv30, 252)")
    known = set(METRICS)
    assert all(set(metric["needs"]) <= known for metric in handbook["metrics"])


def test_over_time_counts_sessions_above_a_line(client: FlaskClient, market: View):
    row = market.row("TARNO")
    found = client.get("/api/dossier/over-time/tarno?expression=iv30&reference=40").json
    iv30 = 100 * market.frame.implied[30][row]
    assert found["values"] == iv30.tolist()
    assert (found["known"], found["above"]) == (504, int((iv30 > 40).sum()))
    newest = client.get("/api/dossier/over-time/TARNO?expression=iv30").json
    assert newest["reference"] == iv30[-1]
    held = client.get("/api/dossier/over-time/TARNO?expression=squeeze_on and close > 1").json
    assert held["kind"] == "condition"
    assert held["above"] == sum(value == 1 for value in held["values"])
    wrong = client.get("/api/dossier/over-time/TARNO?expression=iv30 %3E clse")
    assert (wrong.status_code, wrong.json["where"]) == (422, "character 8")
    assert client.get("/api/dossier/over-time/TARNO?expression=sector").status_code == 422
    assert client.get("/api/dossier/over-time/NOBODY?expression=iv30").status_code == 404


def test_an_unknown_address_is_told_apart_from_a_page(client: FlaskClient):
    answer = client.get("/api/nothing")
    assert answer.status_code == 404
    assert answer.json["type"] == "not_found"
    assert client.delete("/api/check").status_code == 405
    page = client.get("/dossier/TARNO")
    assert page.status_code == 200
    assert b'<div id="root">' in page.data
    assert client.get("/assets/../../settings.py").status_code == 404


def test_the_api_description_covers_every_route(client: FlaskClient):
    described = client.get("/api/openapi.json").json
    assert described["openapi"].startswith("3.1")
    assert {"/api/screen", "/api/dossier/{symbol}", "/api/tray", "/api/tray/undo", "/api/peek/{symbol}"} <= set(
        described["paths"]
    )
