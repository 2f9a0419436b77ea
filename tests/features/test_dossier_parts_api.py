"""The Dossier's volatility, expected moves and chain over HTTP, on planted cases and on names with something wrong."""

import csv
import io
import json

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.core.pricing import greeks, implied_vol
from flinch.market import View


@pytest.fixture
def get(client: FlaskClient):
    def ask(part: str, symbol: str, **query):
        answer = client.get(f"/api/dossier/{part}/{symbol}", query_string=query)
        assert answer.status_code == 200, answer.text
        return answer.json

    return ask


def test_history_is_that_of_the_catalogue(get, market: View):
    found, row = get("volatility", "BULVI"), market.row("BULVI")
    history = found["history"]
    assert history["iv30"][-1] == pytest.approx(market.metric("iv30")[row])
    assert history["hv"][-1] == pytest.approx(market.metric("hv21")[row])
    assert history["ratio_percentile"][-1] == pytest.approx(market.metric("iv_hv_ratio_percentile")[row])
    assert len(history["sessions"]) == 504
    assert set(history["reports"]) <= set(history["sessions"])


def test_the_fitted_curve_runs_through_the_quotes(get):
    smiles = get("volatility", "DEMEO")["smiles"]
    assert len(smiles) > 8
    for smile in smiles:
        inside = total = 0
        for quote in smile["quotes"]:
            if quote["used"] and quote["bid"] is not None:
                fit = np.interp(quote["strike"], smile["strikes"], [v or np.nan for v in smile["vols"]])
                total += 1
                inside += quote["bid"] - 1 <= fit <= quote["ask"] + 1
        assert inside >= 0.9 * total, smile["expiration"]


def test_the_cone_narrows_and_the_term_structure_loses_its_jump_without_earnings(get):
    found = get("volatility", "KOSVI")
    widths = [part["quantiles"][-1] - part["quantiles"][0] for part in found["cone"]["parts"] if part["windows"]]
    assert widths[0] > widths[-1]
    nearest = found["expiries"][0]
    assert nearest["earnings_inside"]
    assert nearest["vol"] > 1.3 * nearest["vol_ex_earnings"]


def test_past_reports_are_told_by_the_session_that_could_react_first(get, market: View):
    """Before the open the same session, after the close the next one; priced at the close before."""
    frame, timings = market.frame, set()
    for symbol in ("KRULU", "TARNO", "VILNI", "BULVI"):
        row = market.row(symbol)
        for report in get("volatility", symbol)["reports"]:
            timings.add(report["timing"])
            place = int(np.flatnonzero(frame.sessions == np.datetime64(report["session"]))[0])
            place += report["timing"] == "after_close"
            moved = 100 * (frame.close[row, place] / frame.close[row, place - 1] - 1)
            assert report["moved"] == pytest.approx(moved)
            priced = 100 * frame.daily["implied_earnings_move"][row, place - 1]
            assert (report["priced"] is None) == bool(np.isnan(priced))
            if report["priced"] is not None:
                assert report["priced"] == pytest.approx(priced)
    assert timings == {"before_open", "after_close"}


def test_a_report_that_price_reacted_to_today_is_over_and_one_of_tonight_is_not(market: View):
    reacted = [
        (view, row, report)
        for session in range(market.last - 40, market.last + 1)
        for view in [market.at(session)]
        for row in np.flatnonzero(view.frame.daily["earnings_reaction"][:, session] == 1)[:3]
        for report in [view.reports(int(row))[-1] if view.reports(int(row)) else None]
        if report is not None
    ]
    assert len(reacted) > 10
    for view, row, _ in reacted:
        places = [view.reaction(report) for report in view.reports(int(row))]
        assert view.last in places, "it is over as of the very session"
        assert all(place is None or place <= view.last for place in places)


def test_past_reports_say_who_won(get, market: View):
    reports = get("volatility", "KRULU")["reports"]
    assert len(reports) >= 5
    for report in reports:
        if report["won"]:
            assert (report["won"] == "sellers") == (abs(report["moved"]) < np.sqrt(2 / np.pi) * report["priced"])
    row = market.row("KRULU")
    assert np.mean([abs(r["moved"]) for r in reports[:8]]) == pytest.approx(
        market.metric("average_earnings_move")[row], rel=1e-6
    )


@pytest.mark.parametrize(("symbol", "sign"), [("BULVI", 1), ("KUTRO", -1)])
def test_a_name_out_of_its_week_and_inside_its_month(get, market: View, symbol, sign):
    found = get("expected-move", symbol)
    week, month = found["places"]
    assert found["out_of_the_week"]
    assert sign * week["position"] > 1
    assert 0 < sign * month["position"] < 1
    assert (week["start"], week["end"]) == ("2026-09-04", "2026-09-11")
    assert (month["start"], month["end"]) == ("2026-08-21", "2026-09-18")
    assert (week["sessions_left"], month["sessions_left"]) == (2, 7)
    close = market.frame.close[market.row(symbol), -1]
    edge = month["anchor"] + sign * month["half_width"]
    assert month["room_pct"] == pytest.approx(100 * sign * (edge - close) / close)
    assert month["room_days"] == pytest.approx(month["room_moves"] ** 2)


def test_fans_open_at_their_anchor_and_the_next_two_expirations_lie_ahead(get, market: View):
    found = get("expected-move", "BULVI")
    fans = found["fans"]
    current = [fan for fan in fans if fan["current"] and fan["period"] != "ahead"]
    assert {fan["period"] for fan in current} == {"week", "month"}
    ahead = [fan for fan in fans if fan["period"] == "ahead"]
    assert [fan["end"] for fan in ahead] == ["2026-09-18", "2026-09-25"]
    frame, row = market.frame, market.row("BULVI")
    for fan in fans:
        place = np.searchsorted(frame.sessions, np.datetime64(fan["start"]))
        assert fan["anchor"] == frame.close[row, place]
        assert fan["sessions"][0] == fan["start"]
        assert fan["sessions"][-1] == fan["end"]
        assert fan["lower"][0] == fan["upper"][0] == fan["anchor"]
        assert fan["upper"][-1] == pytest.approx(fan["anchor"] + fan["half_width"])
        share = np.sqrt(np.arange(len(fan["sessions"])) / (len(fan["sessions"]) - 1))
        assert np.array(fan["lower"]) == pytest.approx(fan["anchor"] - fan["half_width"] * share)


def test_the_ledger_counts_what_it_lists(get):
    for ledger in get("expected-move", "DEMEO")["ledgers"]:
        cycles = ledger["cycles"]
        assert ledger["known"] == len(cycles)
        assert ledger["inside"] == sum(abs(c["position"]) <= 1 for c in cycles)
        for cycle in cycles:
            assert cycle["position"] == pytest.approx(cycle["moved"] / cycle["priced"])
            assert abs(cycle["worst"]) >= abs(cycle["position"]) - 1e-9 or cycle["worst"] * cycle["position"] < 0
        off = ledger["inside"] / ledger["known"] - 0.6827
        chance = 2 * np.sqrt(0.6827 * 0.3173 / ledger["known"])
        assert ledger["verdict"] == (
            "within chance" if abs(off) <= chance else "overpriced" if off > 0 else "underpriced"
        )
        ends = [cycle["end"] for cycle in cycles]
        assert ends == sorted(ends, reverse=True)


def test_most_names_end_inside_about_as_often_as_one_deviation_promises(get, market: View):
    symbols = [name.symbol for name in market.frame.names if name.kind == "stock"][:40]
    inside = known = 0
    for symbol in symbols:
        ledger = get("expected-move", symbol)["ledgers"][1]
        inside, known = inside + ledger["inside"], known + ledger["known"]
    assert 0.6 < inside / known < 0.82


@pytest.mark.parametrize(("symbol", "part"), [("GALNU", "no expiration"), ("FENSO", "")])
def test_what_is_not_known_has_a_reason(get, symbol, part):
    found = get("expected-move", symbol)
    if symbol == "GALNU":
        week = found["places"][0]
        assert week["position"] is None
        assert part in week["reason"]
        assert found["places"][1]["position"] is not None
    else:
        # It is halted today; the move of today was priced the evening before.
        assert found["intraday"]["one_day_move"] > 0
        assert found["intraday"]["fan"]["minutes"]
        assert found["intraday"]["reason"] is None


def test_todays_minutes_end_at_the_last_price(get, market: View):
    intraday = get("expected-move", "BULVI")["intraday"]
    assert intraday["close"][-1] == pytest.approx(market.frame.close[market.row("BULVI"), -1], rel=2e-3)
    assert intraday["minutes"][-1] == 375
    anchor, move = intraday["previous_close"], intraday["one_day_move"]
    minutes, lower, upper = (np.array(intraday["fan"][key]) for key in ("minutes", "lower", "upper"))
    assert (upper - anchor) ** 2 == pytest.approx(move**2 * minutes / 390), "variance grows with time"
    assert anchor - lower == pytest.approx(upper - anchor)
    assert [minutes[0], minutes[-1]] == [0, 390]


def test_the_chain_opens_on_the_nearest_monthly_expiration(get, market: View):
    found = get("chain", "DEMEO")
    assert found["expiration"] == "2026-09-18"
    assert found["exercise"] == "american"
    strikes = [row["strike"] for row in found["rows"]]
    assert strikes == sorted(strikes)
    assert found["lower"] < found["spot"] < found["upper"]
    row = min(found["rows"], key=lambda row: abs(row["strike"] - found["spot"]))
    assert row["call"]["delta"] == pytest.approx(0.5, abs=0.15)
    assert row["put"]["delta"] == pytest.approx(row["call"]["delta"] - 1, abs=0.05)
    assert row["call"]["iv"] == pytest.approx(row["fit_iv"], abs=1.0)


def test_greeks_and_volatilities_are_those_of_the_core(get, market: View):
    found = get("chain", "DEMEO", expiration="2026-10-16")
    row = market.row("DEMEO")
    expiry = next(e for e in market.frame.expiries[row] if str(e.expiration) == "2026-10-16")
    line = found["rows"][len(found["rows"]) // 3]
    at = (found["spot"], line["strike"], expiry.years)
    kind = {"is_call": False, "rate": market.frame.state.rate, "dividend_yield": expiry.carry, "exercise": "american"}
    mid = 0.5 * (line["put"]["bid"] + line["put"]["ask"])
    assert line["put"]["iv"] == pytest.approx(100 * implied_vol(mid, *at, **kind))
    slopes = greeks(*at, line["fit_iv"] / 100, **kind)
    assert [line["put"][name] for name in ("delta", "gamma", "theta", "vega")] == pytest.approx(list(slopes)[:4])


def test_index_options_are_european_and_a_halted_name_is_all_dashes(get, market: View):
    index = next(name.symbol for name in market.frame.names if name.kind == "index")
    assert get("chain", index)["exercise"] == "european"
    halted = get("chain", "FENSO")
    assert halted["flaw"] == "nothing is quoted"
    for row in halted["rows"]:
        assert row["call"]["iv"] is None
        assert row["call"]["why"] == "not quoted"


@pytest.mark.parametrize("format", ["csv", "json", "xlsx"])
def test_the_chain_is_taken_out_one_contract_a_row(client: FlaskClient, get, format):
    rows = get("chain", "DEMEO")["rows"]
    answer = client.get("/api/dossier/chain-file/DEMEO", query_string={"format": format})
    assert answer.status_code == 200
    assert f"DEMEO-2026-09-18.{format}" in answer.headers["Content-Disposition"]
    if format == "csv":
        read = list(csv.reader(io.StringIO(answer.text.lstrip("\ufeff"))))
        assert sum(len(line) > 1 and line[1] in ("call", "put") for line in read) == 2 * len(rows)
    elif format == "json":
        assert len(json.loads(answer.text)["rows"]) == 2 * len(rows)


def test_an_unknown_expiration_falls_back_and_an_unknown_name_is_told(client: FlaskClient, get):
    assert get("chain", "DEMEO", expiration="2031-01-01")["expiration"] == "2026-09-18"
    answer = client.get("/api/dossier/volatility/DEMEX")
    assert answer.status_code == 404
    assert "DEMEO" in answer.json["nearest"]
    assert client.get("/api/dossier/chain/DEMEO", query_string={"expiration": "soon"}).status_code == 422
