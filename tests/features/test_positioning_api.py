"""The Dossier's positioning over HTTP: sums that agree with the screen, moments compared, choices, what is kept apart."""

import io

import numpy as np
import openpyxl
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from tests.asked import ask_evidence
from tests.taken import taken

from flinch.market import View
from flinch.screening.starters import STARTERS
from flinch.store.market.chain import read_chain


@pytest.fixture
def get(client: FlaskClient):
    def ask(symbol: str, **query):
        answer = client.get(f"/api/dossier/positioning/{symbol}", query_string=query)
        assert answer.status_code == 200, answer.text
        return answer.json

    return ask


def metric(market: View, key: str, symbol: str) -> float:
    return float(market.metric(key)[market.row(symbol)])


def about(net: float, gross: float):
    """What is left of two sums kept in single precision is as exact as they are, however small it is."""
    return pytest.approx(net, abs=1e-6 * gross)


@pytest.mark.parametrize("symbol", ["KESEO", "VILNI", "TISVI", "MUFEO", "TRAFA"])
def test_the_dossier_and_the_screen_say_the_same(get, market: View, symbol: str):
    found = get(symbol)
    for part, key in (
        ("call", "call_exposure"),
        ("put", "put_exposure"),
        ("gross", "gross_exposure"),
    ):
        assert found["now"][part] == pytest.approx(metric(market, key, symbol))
    gross = found["now"]["gross"]
    assert found["now"]["net"] == about(metric(market, "net_exposure", symbol), gross)
    flip = np.nan if found["flip"] is None else found["flip"]
    assert flip == pytest.approx(metric(market, "flip", symbol), rel=1e-6, nan_ok=True)
    assert found["changes"]["snapshot"] == about(metric(market, "net_exposure_change", symbol), gross)
    assert found["changes"]["yesterday"] == about(metric(market, "net_exposure_change_1", symbol), gross)
    assert found["changes"]["week"] == about(metric(market, "net_exposure_change_5", symbol), gross)
    assert found["roll_off_pct"] == pytest.approx(metric(market, "roll_off_share", symbol))
    assert found["history"]["net"][-1] == about(found["now"]["net"], found["now"]["gross"])


def test_strikes_and_expirations_add_up_to_the_whole(get, market: View):
    found = get("VILNI")
    for side in ("call", "put"):
        assert sum(s[f"{side}_exposure"] for s in found["strikes"]) == pytest.approx(found["now"][side])
        assert sum(e[side] for e in found["expiries"]) == pytest.approx(found["now"][side])
        interest = sum(s[f"{side}_interest"] for s in found["strikes"])
        assert interest == metric(market, f"{side}_open_interest", "VILNI")
    assert sum(b["share"] for b in found["buckets"]) == pytest.approx(100)
    assert sum(e["opened"] for e in found["expiries"]) == metric(market, "opened", "VILNI")
    assert sum(e["share"] for e in found["expiries"]) == pytest.approx(100)


def test_puts_over_calls_of_each_expiration_and_of_all(get, market: View):
    found = get("VILNI")
    day = "2026-09-18"
    strikes = get("VILNI", expirations=day)["strikes"]
    puts, calls = (sum(s[f"{side}_interest"] for s in strikes) for side in ("put", "call"))
    assert next(e["put_call"] for e in found["expiries"] if e["expiration"] == day) == pytest.approx(puts / calls)
    assert found["put_call_interest"] == pytest.approx(metric(market, "put_call_open_interest", "VILNI"))


def test_the_profile_goes_through_what_is_there_now_and_changes_sign_at_the_flip(get):
    found = get("VILNI")
    spots, net = np.array(found["profile"]["spots"]), np.array(found["profile"]["net"])
    assert np.interp(found["spot"], spots, net) == pytest.approx(found["now"]["net"], rel=0.05)
    assert np.interp(found["flip"], spots, net) == pytest.approx(0, abs=0.03 * np.abs(net).max())
    assert found["flip"] < found["spot"], "the planted flip lies just under the market"


@pytest.mark.parametrize(
    ("rule", "signs"), [("both_sold", (1, 1)), ("both_bought", (-1, -1)), ("calls_sold_puts_bought", (1, -1))]
)
def test_the_sign_rule_is_said_and_switched(get, rule: str, signs):
    found = get("VILNI", rule=rule)
    assert (np.sign(found["now"]["call"]), np.sign(found["now"]["put"])) == signs
    assert found["rule"] == rule
    assert "customers" in found["says"]
    assert found["history"]["net"][-1] == about(found["now"]["net"], found["now"]["gross"])
    one_sign = signs[0] == signs[1]
    assert (found["flip"] is None) == one_sign
    assert bool(found["flip_reason"]) == one_sign


def test_against_each_earlier_moment(get, market: View):
    snapshots = [s.taken_at for s in market.frame.snapshots]
    for against, place in (("snapshot", -2), ("yesterday", -6), ("week", -10)):
        found = get("KESEO", against=against)
        assert found["against"].startswith(f"{snapshots[place]:%Y-%m-%dT%H:%M}")
        same = [s["call_interest"] == s["call_interest_before"] for s in found["strikes"]]
        assert all(same) == (against == "snapshot"), "open interest is counted once a day"
    before = get("KESEO", against="yesterday")["before"]
    history = get("KESEO")["history"]["net"]
    assert before["net"] == pytest.approx(history[-2]), "yesterday's chain says what the history kept"


def test_open_interest_by_strike_is_that_of_the_chains(get, market: View, engine: Engine):
    found = get("KESEO", expirations="2026-09-18")
    key = int(market.frame.ids[market.row("KESEO")])
    now = read_chain(engine, key, market.frame.snapshots[-1].taken_at)
    before = read_chain(engine, key, market.frame.snapshots[-6].taken_at)
    for chain, suffix in ((now, ""), (before, "_before")):
        of = {
            (strike, call): interest
            for day, strike, call, _, _, _, interest in chain.iter_rows()
            if str(day) == "2026-09-18"
        }
        for strike in found["strikes"]:
            assert strike[f"call_interest{suffix}"] == of.get((strike["strike"], True), 0)
    assert [e["chosen"] for e in found["expiries"]].count(True) == 1
    assert found["fan"]["end"] == "2026-09-18"
    assert get("KESEO", fan="2026-10-16")["fan"]["end"] == "2026-10-16"


def test_builds_come_by_contracts_and_small_bases_are_marked(get):
    found = get("KOFIA")
    top = found["builds"][0]
    assert (top["change"], top["before"], top["percent"], top["small_base"]) == (48, 2, pytest.approx(2400), True)
    real = get("RENTU")["builds"][0]
    assert (real["change"], real["before"], real["small_base"]) == (9600, 400, False)
    for view in (found, get("VILNI")):
        changes = [b["change"] for b in view["builds"]]
        assert changes == sorted(changes, reverse=True)
        assert all(b["change"] == b["interest"] - b["before"] > 0 for b in view["builds"])
        losses = [b["change"] for b in view["unwinds"]]
        assert losses == sorted(losses)


def test_a_likely_spread_has_its_cost(get):
    spread = get("NONKO")["spreads"][0]
    assert (spread["lower"], spread["upper"], spread["contracts"], spread["is_call"]) == (115, 120, 3100, True)
    assert 0 < spread["cost"] < 5, "a vertical costs less than its width"
    assert spread["total"] == pytest.approx(spread["cost"] * 100 * 3100)


def test_adjusted_contracts_are_kept_apart(get, client: FlaskClient, market: View):
    found = get("TISVI")
    assert found["adjusted"] == [
        {"shares": 100, "cash": 310, "contracts": found["adjusted"][0]["contracts"], "open_interest": 1260}
    ]
    interest = sum(s["call_interest"] + s["put_interest"] for s in found["strikes"])
    assert interest == metric(market, "open_interest", "TISVI"), "they are in no sum"
    chain = client.get("/api/dossier/chain/TISVI").json
    assert chain["adjusted"] == found["adjusted"][0]["contracts"] > 0
    assert len({row["strike"] for row in chain["rows"]}) == len(chain["rows"])


def test_a_contract_of_another_size_counts_for_what_it_is(get, market: View):
    tenth = get("MUFEO")
    assert tenth["multiplier"] == 10
    assert tenth["now"]["net_pct"] is None, "an index does not trade"
    frame, row = market.frame, market.row("MUFEO")
    other = market.row("GLUDO")
    per_contract = [
        metric(market, "gross_exposure", s) / (metric(market, "open_interest", s) * frame.close[r, -1])
        for s, r in (("MUFEO", row), ("GLUDO", other))
    ]
    assert per_contract[0] < 0.3 * per_contract[1]


def test_a_halted_name_keeps_its_open_interest_and_says_why_there_is_no_exposure(get):
    found = get("FENSO")
    assert found["now"]["net"] is None
    assert found["reason"] == "no open contract has a volatility that could be read"
    assert found["profile"]["net"] == []
    assert found["left_out"] > 1000
    assert found["before"]["net"] is not None, "it was quoted yesterday"
    assert found["builds"]


@pytest.mark.parametrize(
    ("query", "where"),
    [({"expirations": "2026-09-18,soon"}, "expirations"), ({"rule": "x"}, "rule"), ({"fan": "x"}, "fan")],
)
def test_a_bad_choice_says_where(client: FlaskClient, query, where):
    answer = client.get("/api/dossier/positioning/KESEO", query_string=query)
    assert answer.status_code == 422
    assert answer.json["where"] == where
    assert client.get("/api/dossier/positioning/NOPEA").status_code == 404


@pytest.mark.parametrize(
    ("key", "planted"),
    [
        ("positive-and-rising", "KESEO"),
        ("roll-off-this-week", "DELKU"),
        ("building-above", "STAKU"),
        ("just-under-the-flip", None),
    ],
)
def test_starters_find_what_was_planted_and_go_out_as_a_sheet(client: FlaskClient, key: str, planted: str | None):
    body = next(s.body for s in STARTERS if s.key == key)
    stack = {"universe": body.universe, "rules": [rule.model_dump() for rule in body.rules]}
    columns = ["price", "net_exposure", "net_exposure_change_1", "flip", "open_interest", "small_base"]
    reply = client.post("/api/screen", json={"stack": stack, "columns": columns}).json
    assert 3 <= len(reply["symbols"]) <= 120
    assert planted is None or planted in reply["symbols"]
    asked = {"stack": stack, "columns": columns, "sort": body.sort, "name": key, "format": "xlsx"}
    book = openpyxl.load_workbook(io.BytesIO(taken(client, "/api/screen/export", asked).data))
    page = book.worksheets[0]
    header, *rows = page.iter_rows(values_only=True)
    assert {row[0] for row in rows} == set(reply["symbols"])
    assert "Net gamma exposure ($ a %)" in header
    assert page.auto_filter.ref.startswith("A1:")
    assert page.freeze_panes == "B2"
    for letter, cells in zip("ABCDEFGH", page.iter_cols(), strict=False):
        longest = (
            max(len(f"{cell.value:,.0f}") for cell in cells[1:] if isinstance(cell.value, int | float))
            if letter > "B"
            else 5
        )
        assert page.column_dimensions[letter].width >= min(longest, 18) - 1, "no column shows ####"
    notes = {row[0]: row[1] for row in book.worksheets[1].iter_rows(values_only=True, max_row=12) if row[0]}
    assert "customers sell calls and buy puts" in notes["sign of exposure"]


def test_history_of_exposure_serves_rules_and_evidence(client: FlaskClient):
    stack = {"universe": "stock", "rules": [{"text": "crossed_above(net_exposure, 0)"}]}
    found = ask_evidence(client, {"stack": stack}).json["evidence"]
    assert found["cases"] > 1000
    assert found["days"] > 400
    for followed in found["followed"]:
        by = {m["measure"]: m for m in followed["measures"]}
        assert set(by) == {"mean", "up", "size", "beyond", "range"}
        assert by["range"]["fired"]["value"] > by["size"]["fired"]["value"], "the way there is longer than the way gone"
    day = followed["horizon"] == 21 and by["range"]["same_days"]["value"]
    assert 1.0 < day < 2.2, "a driftless walk has about 1.6"
