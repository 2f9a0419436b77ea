"""Running screens through HTTP on a real database."""

import io
import json

import numpy as np
import openpyxl
import pytest
from flask.testing import FlaskClient
from tests.taken import taken

from flinch.market import PLAIN, View
from flinch.screening.starters import STARTERS


def screen(client: FlaskClient, *rules, universe: str = "all", columns=(), any_groups=(), **more) -> dict:
    bodies = [{"text": rule} if isinstance(rule, str) else rule for rule in rules]
    stack = {"universe": universe, "rules": bodies, "any_groups": list(any_groups)}
    answer = client.post("/api/screen", json={"stack": stack, "columns": list(columns), **more})
    assert answer.status_code == 200, answer.text
    return answer.json


def numbers(found: dict, key: str) -> list:
    return next(column for column in found["columns"] if column["key"] == key)["numbers"]


def test_without_rules_the_whole_universe_survives(client: FlaskClient):
    everyone = screen(client, columns=["price", "sector", "squeeze_on"])
    assert (everyone["universe"], len(everyone["symbols"]), everyone["newest"]) == (502, 502, True)
    assert {len(c["numbers"]) + len(c["texts"]) for c in everyone["columns"]} == {502}
    for universe, names in (("stock", 480), ("fund", 20), ("sector:Household", 40), ("members:GLUDO", 480)):
        assert screen(client, universe=universe)["universe"] == names


def test_pages_in_order_make_the_whole(client: FlaskClient):
    asked = {"stack": {"universe": "stock", "rules": []}, "columns": ["iv_rank", "sector", "days_to_earnings"]}
    for sort in ([], ["-iv_rank"], ["sector", "-iv_rank"], ["-company"]):
        whole = client.post("/api/screen", json=asked | {"sort": sort}).json
        pages = [
            client.post("/api/screen/rows", json=asked | {"sort": sort, "first": first, "count": 70}).json
            for first in range(0, 490, 70)
        ]
        assert [page["first"] for page in pages] == list(range(0, 490, 70))
        for key in ("symbols", "companies", "sectors"):
            assert [value for page in pages for value in page[key]] == whole[key]
        for place, column in enumerate(whole["columns"]):
            parts = [page["columns"][place] for page in pages]
            assert [v for part in parts for v in part["numbers"] + part["texts"]] == column["numbers"] + column["texts"]
            assert {k: v for part in parts for k, v in part["reasons"].items()} == column["reasons"]
            assert {(part["lowest"], part["highest"], part["usual_highest"]) for part in parts} == {
                (column["lowest"], column["highest"], column["usual_highest"])
            }
        assert sorted(whole["symbols"]) == sorted(screen(client, universe="stock")["symbols"])
    # A screen's answer may tell of one page, and names everybody all the same.
    part = client.post("/api/screen", json=asked | {"sort": sort, "first": 400, "count": 30}).json
    assert part["symbols"] == whole["symbols"]
    assert part["companies"] == whole["companies"][400:430]


def test_the_order_is_that_of_the_values_and_what_is_missing_comes_last(client: FlaskClient):
    def ordered_by(*sort: str) -> dict:
        return screen(client, columns=["iv_rank", "sector", "days_to_earnings"], sort=list(sort))

    for key in ("days_to_earnings", "-days_to_earnings"):
        days = numbers(ordered_by(key), "days_to_earnings")
        known = [value for value in days if value is not None]
        assert days == sorted(known, reverse=key.startswith("-")) + [None] * (len(days) - len(known))
        assert len(known) < len(days)
    market = screen(client)["symbols"]
    assert market != sorted(market, reverse=True)
    assert ordered_by("symbol")["symbols"] == sorted(market)
    # Funds have no sector of companies; among equal ones the second key decides, then the market's order.
    for falling in (False, True):
        found = ordered_by("-sector" if falling else "sector", "-iv_rank")
        column = next(c for c in found["columns"] if c["key"] == "sector")["texts"]
        assert column == sorted(column, reverse=falling)
        pairs = [pair for pair in zip(column, numbers(found, "iv_rank"), strict=True) if pair[1] is not None]
        assert pairs == sorted(sorted(pairs, key=lambda p: -p[1]), key=lambda p: p[0], reverse=falling)
        alone = ordered_by("-sector" if falling else "sector")
        texts = next(c for c in alone["columns"] if c["key"] == "sector")["texts"]
        first = [symbol for symbol, text in zip(alone["symbols"], texts, strict=True) if text == texts[0]]
        assert first == [symbol for symbol in market if symbol in set(first)]


def test_a_column_says_how_far_all_survivors_reach(client: FlaskClient):
    found = screen(client, columns=["iv30"], count=10)["columns"][0]
    every = [value for value in numbers(screen(client, columns=["iv30"]), "iv30") if value is not None]
    assert len(found["numbers"]) == 10
    assert (found["lowest"], found["highest"]) == (min(every), max(every))
    assert found["usual_highest"] == pytest.approx(np.quantile(every, 0.93))
    nobody = screen(client, "price < 0", columns=["iv30"])["columns"][0]
    assert (nobody["lowest"], nobody["highest"], nobody["usual_highest"]) == (None, None, None)


def test_survivors_meet_every_rule_and_the_funnel_adds_up(client: FlaskClient):
    rules = ["15 <= price <= 250", "avg_option_volume_21 >= 500", "iv_hv_ratio > 1.2", "days_to_earnings >= 12"]
    found = screen(client, *rules, columns=["price", "iv_hv_ratio", "days_to_earnings"])
    assert all(15 <= value <= 250 for value in numbers(found, "price"))
    assert all(value > 1.2 for value in numbers(found, "iv_hv_ratio"))
    assert all(value >= 12 for value in numbers(found, "days_to_earnings"))
    steps = found["rules"]
    assert [step["reached"] for step in steps] == [502, *[step["survivors"] for step in steps[:-1]]]
    assert steps[-1]["survivors"] == len(found["symbols"])
    for step in steps:
        # Of those who reached a rule, those with a value are in its histogram.
        assert sum(step["histogram"]["counts"]) + step["unknown"] == step["reached"]
    assert steps[3]["missing"] > 0, "funds do not report and are lost there"


def test_the_lone_cut_is_what_dropping_the_rule_brings_back(client: FlaskClient):
    rules = ["15 <= price <= 250", "avg_option_volume_21 >= 500", "iv_rank >= 40", "not squeeze_on"]
    full = screen(client, *rules)
    for place, step in enumerate(full["rules"]):
        without = screen(client, *rules[:place], *rules[place + 1 :])
        assert step["lone_cut"] == len(without["symbols"]) - len(full["symbols"])


def test_any_one_of_a_group_is_enough(client: FlaskClient):
    one, two = {"text": "iv_rank >= 90", "group": 1}, {"text": "squeeze_on", "group": 1}
    either = screen(client, one, two, any_groups=[1])
    first, second = (set(screen(client, rule["text"])["symbols"]) for rule in (one, two))
    assert set(either["symbols"]) == first | second
    assert [step["lone_cut"] for step in either["rules"]] == [-len(first - second), -len(second - first)]
    both = screen(client, one, two)
    assert set(both["symbols"]) == first & second
    # Of "all" the second is reached by those who passed the first, in its counts as in its histogram.
    ranged = screen(client, one, {"text": "price >= 20", "group": 1})["rules"][1]
    assert ranged["reached"] == len(first)
    assert sum(ranged["histogram"]["counts"]) + ranged["unknown"] == ranged["reached"]


def test_a_rule_that_is_off_open_or_wrong_cuts_nothing(client: FlaskClient):
    found = screen(client, {"text": "price > 100", "on": False}, "iv_rank", "sector", "priec > 3")
    assert len(found["symbols"]) == 502
    off, opened, choice, wrong = found["rules"]
    assert [rule["takes_part"] for rule in found["rules"]] == [False] * 4
    assert (off["lower"], opened["lower"], opened["unknown"]) == (100, None, 2)
    assert sum(option["count"] for option in choice["choices"]) == 502
    assert wrong["error"] == {
        "message": "There is no “priec”. Did you mean price?",
        "start": 0,
        "end": 5,
        "nearest": ["price"],
    }


def test_categories_are_counted_among_those_who_reach_them(client: FlaskClient):
    found = screen(client, "price > 100", 'sector in ("Household", "Metals & Salt")', columns=["sector"])
    assert set(found["columns"][0]["texts"]) == {"Household", "Metals & Salt"}
    choices = {option["value"]: option["count"] for option in found["rules"][1]["choices"]}
    assert choices["Household"] + choices["Metals & Salt"] == len(found["symbols"])
    assert sum(choices.values()) == found["rules"][0]["survivors"]


def test_aim_names_an_edge_that_leaves_as_many_as_wanted(client: FlaskClient):
    rules = ["price >= 20", "iv_rank >= 60", "iv_hv_ratio >= 1.2"]
    found = screen(client, *rules, aim=25)
    for place, step in enumerate(found["rules"]):
        (edge,) = step["aim"]
        moved = f"{step['subject']} >= {edge['value']}" if edge["value"] is not None else step["subject"]
        after = screen(client, *rules[:place], moved, *rules[place + 1 :])
        assert len(after["symbols"]) == edge["names"]
        assert edge["names"] == 25 or edge["value"] is None, place


def test_what_aim_says_of_an_opened_rule_is_what_an_opened_rule_leaves(client: FlaskClient):
    rules = ["price >= 5", "flip_distance <= 5.4"]
    (edge,) = screen(client, *rules, aim=400)["rules"][1]["aim"]
    assert edge["value"] is None
    assert edge["names"] == len(screen(client, rules[0], "flip_distance")["symbols"])
    assert edge["names"] > 400, "many names have no flip, and an open rule does not ask for one"


def test_the_past_has_its_own_survivors_and_what_changed_says_by_which_rule(client: FlaskClient, market: View):
    rules = ["price >= 20", "iv_percentile >= 80"]
    before = screen(client, *rules, as_of="2026-09-08")
    assert (before["session"], before["newest"]) == ("2026-09-08", False)
    found = screen(client, *rules, against={})
    changed = found["changed"]
    assert changed["session"] == "2026-09-08"
    now, then = set(found["symbols"]), set(before["symbols"])
    assert {name["symbol"] for name in changed["came_in"]} == now - then
    assert {name["symbol"] for name in changed["went_out"]} == then - now
    assert changed["stayed"] == len(now & then)
    for moved, session in ((changed["came_in"], market.last - 1), (changed["went_out"], market.last)):
        assert moved
        for name in moved:
            failing = [
                place
                for place, rule in enumerate(rules)
                if market.at(session).column(PLAIN.read(rule).node).values[market.row(name["symbol"])] != 1
            ]
            assert name["by"] == failing
    weekend = screen(client, *rules, as_of="2026-09-06")
    assert weekend["session"] == "2026-09-04", "the last session on or before that day"
    look = screen(client, *rules, against={"session": "2026-09-08", "symbols": ["TARNO"]})
    assert {name["symbol"] for name in look["changed"]["came_in"]} == now - {"TARNO"}


def test_rules_on_minute_bars(client: FlaskClient):
    found = screen(client, {"text": "rsi(14) < 30", "bars": "15"})
    assert 0 < len(found["symbols"]) < 400
    (wrong,) = screen(client, {"text": "iv30 > 30", "bars": "15"})["rules"]
    assert "daily value" in wrong["error"]["message"]


def test_missing_values_say_why(client: FlaskClient):
    found = screen(client, columns=["iv30", "avg_volume_50", "nonsense"])
    iv30, volume, nonsense = found["columns"]
    assert iv30["reasons"] == {"FENSO": "no usable option quotes around thirty days ahead"}
    assert volume["reasons"]["GLUDO"] == "an index does not trade"
    assert nonsense["error"].startswith("There is no “nonsense”")
    assert nonsense["numbers"] == [None] * 502


def test_the_histograms_bounds_stay_while_the_rules_before_it_change(client: FlaskClient):
    wide, narrow = (screen(client, f"price >= {edge}", "iv30")["rules"][1]["histogram"] for edge in (1, 100))
    assert wide["edges"] == narrow["edges"]
    assert sum(wide["counts"]) > sum(narrow["counts"])


@pytest.mark.parametrize("starter", STARTERS, ids=lambda starter: starter.key)
def test_every_starter_is_read_finds_someone_and_explains_itself(client: FlaskClient, starter):
    body = starter.body
    drawn = {"move", "level"}
    found = screen(
        client, *[rule.text for rule in body.rules], universe=body.universe,
        columns=[key for key in body.columns if key not in drawn],
    )  # fmt: skip
    assert 0 < len(found["symbols"]) <= 80
    assert all(rule["error"] is None for rule in found["rules"])
    assert all(column["error"] is None for column in found["columns"])
    assert {key.lstrip("-") for key in body.sort} <= set(body.columns)
    assert starter.description.count(". ") + starter.description.endswith(".") == 3


STORIES = {
    "dear-funds": "FELRO",
    "squeeze-strength": "DORTU",
    "regained-200": "GERNA",
    "premarket-movers": "VONOA",
    "channel-bounce": "VERMU",
    "cheap-own-past": "SLELU",
    "fair-income-uptrend": "FOLVO",
    "short-squeeze": "HOSMU",
    "fresh-breakout": "GISKO",
    "premium-to-buy": "DRUVO",
    "before-earnings": "KOSVI",
}


@pytest.mark.parametrize(("key", "symbol"), STORIES.items())
def test_a_starter_finds_the_name_planted_for_it(client: FlaskClient, key: str, symbol: str):
    starter = next(starter for starter in STARTERS if starter.key == key)
    found = screen(client, *[rule.text for rule in starter.body.rules], universe=starter.body.universe)
    assert symbol in found["symbols"]


def test_what_is_always_cheap_is_not_cheap_against_its_own_past(client: FlaskClient):
    starter = next(starter for starter in STARTERS if starter.key == "cheap-own-past")
    found = screen(client, *[rule.text for rule in starter.body.rules])["symbols"]
    assert "RERLU" not in found
    assert "RERLU" in screen(client, starter.body.rules[0].text)["symbols"]


@pytest.mark.parametrize(
    ("body", "field"),
    [
        ({}, "stack"),
        ({"stack": {"rules": [{}]}}, "stack.rules.0.text"),
        ({"stack": {"rules": [{"text": "x" * 1002}]}}, "stack.rules.0.text"),
        ({"stack": {"rules": [{"text": "price"}] * 61}}, "stack.rules"),
        ({"stack": {"rules": [{"text": "price", "bars": "7"}]}}, "stack.rules.0.bars"),
        ({"stack": {}, "as_of": "yesterday"}, "as_of"),
        ({"stack": {}, "aim": 0}, "aim"),
        ({"stack": {}, "columns": ["price"] * 61}, "columns"),
        ({"stack": {}, "sort": "price"}, "sort"),
        ({"stack": {}, "sort": ["price", "iv30", "hv21"]}, "sort"),
        ({"stack": {}, "first": -1}, "first"),
        ({"stack": {}, "count": 10_001}, "count"),
        ({"stack": {}, "order": "price"}, "order"),
    ],
)
def test_a_malformed_request_is_refused_with_the_place(client: FlaskClient, body: dict, field: str):
    answer = client.post("/api/screen", json=body)
    assert answer.status_code == 422
    assert answer.json["where"] == field


@pytest.mark.parametrize(
    "universe", ["moon", "sector:Moon", "members:TARNO", "basket:1234567", "basket:x", "all:x", ""]
)
def test_an_unknown_universe_says_what_there_is(client: FlaskClient, universe: str):
    answer = client.post("/api/screen", json={"stack": {"universe": universe}})
    assert (answer.status_code, answer.json["type"]) == (422, "no_such_group")


def test_small_charts(client: FlaskClient, market: View):
    asked = {"symbols": ["TARNO", "NOBODY", "BELUA"], "what": "price", "sessions": 21}
    found = client.post("/api/screen/series", json=asked).json
    assert [series["symbol"] for series in found["series"]] == ["TARNO", "BELUA"]
    assert found["sessions"][-1] == "2026-09-09"
    assert found["series"][0]["close"] == market.frame.close[market.row("TARNO"), -21:].tolist()
    past = client.post("/api/screen/series", json=asked | {"what": "volatility", "as_of": "2026-08-03"}).json
    assert past["sessions"][-1] == "2026-08-03"
    history = market.history(PLAIN.read("hv21").node, market.row("TARNO"))
    then = history[market.frame.sessions == np.datetime64("2026-08-03")]
    assert past["series"][0]["historical"][-1] == pytest.approx(float(then[0]), abs=0.01)


def export(client: FlaskClient, file_format: str, **more):
    stack = {"universe": "stock", "rules": [{"text": "iv_rank >= 60"}, {"text": "price >= 20"}]}
    asked = {"format": file_format, "name": "Teuer · 高い", "stack": stack, "sort": ["-iv_rank", "symbol"]}
    asked |= {"columns": ["price", "iv_rank", "sector", "squeeze_on", "days_to_ex_dividend"]} | more
    answer = taken(client, "/api/screen/export", asked)
    assert answer.status_code == 200, answer.text
    return answer


def test_a_sheet_read_back_has_the_names_types_and_rules(client: FlaskClient):
    answer = export(client, "xlsx")
    book = openpyxl.load_workbook(io.BytesIO(answer.data))
    page, about = book.worksheets
    rows = list(page.iter_rows(values_only=True))
    assert rows[0][:4] == ("Symbol", "Company", "Price ($)", "IV rank (0–100)")
    found = screen(client, "iv_rank >= 60", "price >= 20", universe="stock", columns=["price", "iv_rank"])
    assert {row[0] for row in rows[1:]} == set(found["symbols"])
    ranks = [row[3] for row in rows[1:]]
    assert ranks == sorted(ranks, reverse=True)
    assert all(isinstance(row[2], int | float) and isinstance(row[5], bool) for row in rows[1:])
    assert any(row[6] is None for row in rows[1:]), "no dividend declared: an empty cell, not a zero"
    assert page.freeze_panes == "B2"
    assert page.auto_filter.ref == f"A1:G{len(rows)}"
    assert page.column_dimensions["B"].width > 12
    said = [cell for row in about.iter_rows(values_only=True) for cell in row if cell is not None]
    assert {"iv_rank >= 60", "price >= 20", "2026-09-09 15:45 New York"} <= {str(cell) for cell in said}
    assert "filename*=UTF-8''Teuer" in answer.headers["Content-Disposition"]


def test_csv_and_json_hold_the_same(client: FlaskClient):
    text = export(client, "csv").data.decode("utf-8-sig")
    lines = text.split("\r\n")
    document = json.loads(export(client, "json").data)
    assert lines[0].startswith("Symbol,Company,Price ($)")
    assert [line.split(",")[0] for line in lines[1:-1]] == [row["symbol"] for row in document["rows"]]
    assert document["rules"][0]["rule"] == "iv_rank >= 60"
    assert document["notes"]["as of"] == "2026-09-09 15:45 New York"
    past = json.loads(export(client, "json", as_of="2026-03-02").data)
    assert past["notes"]["as of"] == "2026-03-02, at the close"


def test_nothing_in_a_file_is_taken_for_a_formula(client: FlaskClient):
    hostile = "=1+1"
    client.post("/api/own-metrics", json={"key": "odd", "label": hostile, "expression": "price + 1"})
    try:
        text = export(client, "csv", columns=["odd"]).data.decode("utf-8-sig")
        assert text.split("\r\n")[0] == f"Symbol,Company,'{hostile}"
        book = openpyxl.load_workbook(io.BytesIO(export(client, "xlsx", columns=["odd"], name=hostile).data))
        assert book.worksheets[0]["C1"].value == hostile
        assert book.worksheets[0]["C1"].data_type == "s"
    finally:
        for metric in client.get("/api/own-metrics").json["metrics"]:
            client.delete(f"/api/own-metrics/{metric['id']}")
