"""Structures over HTTP: searching, ordering, the front, one structure, plans, and what cannot be."""

import csv
import datetime as dt
import io

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.core.structures import PlainLeg, read_legs
from flinch.features.structures.plan_schemas import PlanView
from flinch.features.structures.plans import plan_view
from flinch.market import View
from flinch.screening.searches import SEARCHES
from flinch.store.market.chain import read_chain, read_declared
from flinch.store.owned.models import Plan

EXAMPLE = (
    "chance_of_profit_past >= 55 and credit >= width / 5 and edge_forecast > -50 and min_leg_open_interest >= 5 "
    "and days_to_earnings > dte"
)


NARROW = {"kinds": ["put_credit", "call_credit"], "least_days": 25, "most_days": 50, "high": 0.3, "most_width": 5}


@pytest.fixture
def symbols(market: View) -> list[str]:
    """Some names whose options are traded much."""
    volume = np.where(market.optionable() & (market.frame.kind == "stock"), market.metric("avg_option_volume_21"), -1)
    return [market.name(int(row)).symbol for row in np.argsort(-volume)[:4]]


@pytest.fixture
def look(client: FlaskClient):
    def ask(*rules: str, universe: str, status: int = 200, search: dict | None = None, **more):
        body = {
            "stack": {"universe": universe, "rules": [{"text": rule} for rule in rules]},
            "search": search or {},
            **more,
        }
        answer = client.post("/api/structures", json=body)
        assert answer.status_code == status, answer.text
        return answer.json

    return ask


@pytest.fixture
def one(client: FlaskClient):
    def ask(symbol: str, legs: str, status: int = 200, **more):
        answer = client.post("/api/structures/one", json={"symbol": symbol, "legs": legs, **more})
        assert answer.status_code == status, answer.text
        return answer.json

    return ask


def legs_of(line: dict) -> list[PlainLeg]:
    return read_legs(line["key"].split(" ", 1)[1]).options


def column(page: dict, key: str) -> list:
    found = next(c for c in page["columns"] if c["key"] == key)
    return found["texts"] or found["numbers"]


def test_a_rule_joins_the_structure_its_legs_and_its_name(look, symbols):
    keys = [
        "chance_of_profit_past",
        "credit",
        "width",
        "edge_forecast",
        "min_leg_open_interest",
        "days_to_earnings",
        "dte",
    ]
    page = look(EXAMPLE, universe=f"name:{symbols[0]}", search=NARROW, columns=keys, count=1_200)
    everything = look(universe=f"name:{symbols[0]}", search=NARROW, columns=keys, count=1_200)
    assert page["rules"][0]["error"] is None

    def holds(row: int) -> bool:
        p, credit, width, edge, interest, report, dte = (column(everything, key)[row] for key in keys)
        known = None not in (p, credit, width, edge, interest, report)
        return known and p >= 55 and credit >= width / 5 and edge > -50 and interest >= 5 and report > dte

    assert everything["universe"] <= 1_200, "all of them are on the page"
    wanted = [row["key"] for i, row in enumerate(everything["rows"]) if holds(i)]
    assert sorted(row["key"] for row in page["rows"]) == sorted(wanted)
    assert page["survivors"] == len(wanted)


def test_every_structure_is_what_its_quotes_say(look, market, symbols):
    page = look(
        universe=f"name:{symbols[1]}",
        columns=["cost", "mid", "max_loss", "return_on_capital", "capital", "max_profit"],
        count=80,
    )
    row = market.row(symbols[1])
    chain = read_chain(market.store, market.id(row), market.snapshot.taken_at)
    quotes = {
        (str(e), k, bool(c)): (b, a)
        for e, k, c, b, a in chain.select("expiration", "strike", "is_call", "bid", "ask").iter_rows()
    }
    assert len(page["rows"]) > 20
    for i, line in enumerate(page["rows"]):
        mid = 0.0
        for leg in legs_of(line):
            bid, ask = quotes[str(leg.expiration), leg.strike, leg.is_call]
            mid += 100 * leg.quantity * (bid + ask) / 2
        assert column(page, "mid")[i] == pytest.approx(mid, rel=1e-5, abs=1e-3)
        assert column(page, "return_on_capital")[i] == pytest.approx(
            100 * column(page, "max_profit")[i] / column(page, "capital")[i], rel=1e-4
        )


def test_a_row_opened_says_the_same_as_its_line(look, one, symbols):
    keys = [
        "cost",
        "max_profit",
        "max_loss",
        "capital",
        "breakeven_below",
        "breakeven_above",
        "shortfall_past",
        "expected_value_forecast",
    ]
    kinds = ["put_credit", "iron_condor", "call_butterfly", "covered_call", "long_strangle", "call_calendar"]
    for kind in kinds:
        page = look(universe=f"name:{symbols[0]}", search={"kinds": [kind], "middle": 0.5}, columns=keys, count=4)
        assert page["rows"], kind
        loose = kind == "call_calendar"
        for i, line in enumerate(page["rows"]):
            symbol, legs = line["key"].split(" ", 1)
            told = one(symbol, legs)
            made = told["structure"]
            assert made["label"] == line["label"]
            near = {"rel": 0.02 if loose else 1e-4, "abs": 2.0 if loose else 0.02}
            assert made["cost"] == pytest.approx(column(page, "cost")[i], rel=1e-4, abs=0.01)
            if kind == "long_strangle":
                assert made["max_profit"] is column(page, "max_profit")[i] is None
                assert made["unbounded_profit"]
            else:
                assert made["max_profit"] == pytest.approx(column(page, "max_profit")[i], **near)
            assert made["max_loss"] == pytest.approx(column(page, "max_loss")[i], **near)
            assert made["capital"] == pytest.approx(column(page, "capital")[i], **near)
            assert [said["chance_of_profit"] for said in made["judged"]] == pytest.approx(
                line["chances"], abs=0.5 if loose else 0.02
            )
            assert [said["edge"] for said in made["judged"]] == pytest.approx(line["edges"], **near)
            assert made["judged"][1]["shortfall"] == pytest.approx(column(page, "shortfall_past")[i], rel=0.02, abs=1.0)
            edges = [edge["price"] for edge in made["breakevens"]]
            for key in ("breakeven_below", "breakeven_above"):
                if column(page, key)[i] is not None:
                    assert min(abs(edge - column(page, key)[i]) for edge in edges) < 0.003 * told["spot"]


def test_the_front_holds_what_no_other_beats(look, symbols):
    axes = ["chance_of_profit_past", "return_on_capital"]
    page = look(universe=f"name:{symbols[0]}", search=NARROW, columns=axes, count=1_200, points=True)
    assert page["universe"] <= 1_200
    places = list(zip(column(page, axes[0]), column(page, axes[1]), strict=True))
    for i, (x, y) in enumerate(places):
        beaten = any(a >= x and b >= y and (a > x or b > y) for a, b in places)
        assert page["rows"][i]["on_front"] == (not beaten)
    front = page["front"]
    assert front["total"] == sum(row["on_front"] for row in page["rows"])
    assert sum(front["cells"]["count"]) == page["survivors"]
    xs = [place[0] for place in front["places"]]
    assert xs == sorted(xs)
    alone = look(universe=f"name:{symbols[0]}", search=NARROW, front_only=True, count=100)
    assert {row["key"] for row in alone["rows"]} == {row["key"] for row in page["rows"] if row["on_front"]}
    cheap = look(
        universe=f"name:{symbols[0]}",
        search=NARROW | {"front": ["-cost", "chance_of_profit_market"]},
        points=True,
        count=0,
    )
    assert cheap["front"]["axes"][0]["rising"] is False
    assert cheap["front"]["axes"][0]["lowest"] == pytest.approx(
        min(column(look(universe=f"name:{symbols[0]}", search=NARROW, columns=["cost"], count=1_200), "cost")), rel=1e-5
    )


def test_weights_order_and_lists_are_spread_out(look, client, symbols):
    client.delete("/api/tray")
    client.post("/api/tray", json={"symbols": symbols, "why": {"page": "test", "words": "x", "link": "", "values": {}}})
    weights = [{"axis": "chance_of_profit_past", "weight": 2}, {"axis": "return_on_capital", "weight": 1}]
    keys = ["chance_of_profit_past", "return_on_capital"]
    page = look(universe="tray", search={"weights": weights, "kinds": ["put_credit"]}, columns=keys, count=1_200)
    assert page["total"] == page["survivors"]
    both = list(zip(column(page, keys[0]), column(page, keys[1]), strict=True))

    def standing(values):
        return [(sum(v < x for v in values) + 0.5 * sum(v == x for v in values)) for x in values]

    if page["total"] <= 1_200:
        a, b = standing([x for x, _ in both]), standing([y for _, y in both])
        score = [2 * p + q for p, q in zip(a, b, strict=True)]
        assert score == sorted(score, reverse=True)
    few = look(universe="tray", search={"at_most": {"count": 2, "of": "name"}, "kinds": ["put_credit"]}, count=100)
    names = [row["symbol"] for row in few["rows"]]
    assert max(names.count(name) for name in set(names)) == 2
    assert few["total"] == len(names) < few["survivors"]
    together = look(
        universe="tray", search={"at_most": {"count": 1, "of": "together"}, "kinds": ["put_credit"]}, count=100
    )
    assert 1 <= len(together["rows"]) <= len(set(names))
    sorted_page = look(
        universe="tray", sort=["-dte", "symbol"], search={"kinds": ["put_credit"]}, columns=["dte"], count=300
    )
    days = column(sorted_page, "dte")
    assert days == sorted(days, reverse=True)


def test_a_target_is_where_strikes_are(look, market, symbols):
    search = {
        "kinds": ["call_debit"],
        "target": "price * 1.05",
        "measure": "percent",
        "low": 0,
        "high": 2,
        "most_width": 20,
    }
    page = look(
        universe=f"name:{symbols[0]}",
        search=search,
        columns=["target", "profit_at_target", "highest_strike", "max_profit"],
        count=50,
    )
    price = market.price(market.row(symbols[0]))
    assert page["targets"] == 1
    for i in range(len(page["rows"])):
        assert column(page, "target")[i] == pytest.approx(1.05 * price)
        assert abs(column(page, "highest_strike")[i] - 1.05 * price) <= 0.02 * price + 1e-6
        if column(page, "highest_strike")[i] <= 1.05 * price:
            assert column(page, "profit_at_target")[i] == pytest.approx(
                column(page, "max_profit")[i], rel=1e-4, abs=0.01
            )
    nowhere = look(universe=f"name:{symbols[0]}", search=search | {"target": "line_above_price"})
    assert (nowhere["universe"], nowhere["targets"]) == (0, 0)


def test_a_screens_survivors_are_a_universe(look, client):
    ready = next(s for s in client.get("/api/screens").json["starters"] if s["key"] == "premium-to-sell")
    screened = client.post(
        "/api/screen",
        json={"stack": {key: ready["body"][key] for key in ("universe", "rules", "any_groups")}, "columns": []},
    ).json
    page = look(universe="screen:s-premium-to-sell", search={"kinds": ["long_straddle"]}, count=0)
    survivors = set(screened["symbols"])
    assert page["names"] == len(survivors) > 5
    assert set(page["symbols"]) <= survivors
    for key in ("screen:s-nothing", "screen:99999", "screen:s-" + next(iter(SEARCHES)).key):
        assert "not there any more" in look(universe=key, status=422)["message"]
    body = {"table": "structures", "universe": "tray", "rules": []}
    kept = client.post("/api/screens", json={"name": "condors of the tray", "body": body}).json
    assert "not there any more" in look(universe=f"screen:{kept['id']}", status=422)["message"]
    client.delete(f"/api/screens/{kept['id']}")


def test_expirations_before_and_after_the_report_and_by_label(look, market, symbols):
    row = next(
        r
        for r in range(len(market.frame.names))
        if market.optionable()[r]
        and (n := market.next_report(r))
        and 5 < (n.session - market.today).days < 50
        and len(market.readable_expirations(r)) > 6
    )
    symbol, report = market.name(row).symbol, market.next_report(row)
    spread = {"kinds": ["put_credit"], "least_days": 0, "most_days": 120, "high": 0.5, "low": 0.02, "most_width": 50}
    for wish in ("before", "after"):
        page = look(universe=f"name:{symbol}", search=spread | {"report": wish}, columns=["report_inside"], count=1_200)
        assert page["rows"]
        assert set(column(page, "report_inside")) == {1.0 if wish == "after" else 0.0}
        for line in page["rows"]:
            ends = str(legs_of(line)[0].expiration)
            assert (ends > str(report.session)) == (wish == "after") or ends == str(report.session)
    monthly = look(universe=f"name:{symbol}", search=spread | {"label": "monthly"}, count=1_200)
    days = {str(legs_of(line)[0].expiration) for line in monthly["rows"]}
    assert days
    assert all(15 <= int(day[-2:]) <= 21 for day in days)


@pytest.mark.parametrize("starter", SEARCHES, ids=[starter.key for starter in SEARCHES])
def test_ready_searches_are_read_and_find_something(look, client, no_lines, starter):
    if "line" in starter.body.search.target:
        price = client.get("/api/dossier/TARNO").json["today"]["price"]
        client.post("/api/lines", json={"symbol": "TARNO", "price": round(price * 1.06, 1), "name": "", "note": ""})
    universe = "name:TARNO" if "line" in starter.body.search.target else starter.body.universe
    rules = [rule.text for rule in starter.body.rules]
    page = look(
        *rules,
        universe=universe,
        search=starter.body.search.model_dump(),
        sort=starter.body.sort,
        columns=starter.body.columns,
        count=5,
    )
    assert [rule["error"] for rule in page["rules"]] == [None] * len(rules)
    assert [c["error"] for c in page["columns"]] == [None] * len(starter.body.columns)
    assert page["universe"] > 0
    assert page["survivors"] > 0
    assert len(starter.description) > 120
    front = look(universe="name:TARNO", search=starter.body.search.model_dump(), points=True, count=0)["front"]
    assert [axis["error"] for axis in front["axes"]] == [None, None]


@pytest.mark.parametrize(
    ("search", "words"),
    [
        ({"kinds": ["iron_fist"]}, "no kind of structure 'iron_fist'"),
        ({"kinds": []}, "at least one kind"),
        ({"target": "price"}, "not by delta"),
        ({"target": "prise", "measure": "percent"}, "Did you mean price"),
        ({"target": "price > 3", "measure": "percent"}, "must be a price"),
        ({"measure": "delta", "low": -3, "high": 0.3}, "between 0 and 1"),
        ({"least_days": 50, "most_days": 20}, "put the smaller number first"),
        ({"low": 0.5, "high": 0.2}, "put the smaller number first"),
    ],
)
def test_a_search_that_cannot_be_says_what_to_do(look, search, words):
    assert words in look(universe="name:TARNO", search=search, status=422)["message"]


def test_a_search_too_large_says_by_how_much_and_what_would_shrink_it(look):
    wide = {
        "kinds": ["iron_condor"],
        "low": 0.01,
        "high": 0.6,
        "most_width": 1_000,
        "balanced": False,
        "least_days": 0,
        "most_days": 400,
    }
    told = look(universe="name:TARNO", search=wide, status=422)
    assert told["type"] == "too_many_structures"
    assert "times what one search may" in told["message"]
    assert "narrow the strikes or widths" in told["message"]


def test_widths_that_no_strikes_have_make_nothing(look):
    page = look(universe="name:TARNO", search={"least_width": 0.01, "most_width": 0.02})
    assert (page["universe"], page["rows"]) == (0, [])


@pytest.mark.parametrize(
    ("legs", "words", "where"),
    [
        ("-1P50@2026-10-16,hello", "character 18", "18"),
        ("0P50@2026-10-16", "quantity of zero", "1"),
        ("+1P50@2026-02-31", "no day 2026-02-31", "1"),
        ("+1P50@2025-10-17", "expired on 17 Oct 2025", "1"),
        ("+1P50@2026-10-16,+1P50@2026-10-15", "not listed", "2"),
        ("+1P50.3@2026-10-16", "Nearest strikes are", "1"),
        (",".join(["+1P50@2026-10-16"] * 9), "8 legs at most", "1"),
    ],
)
def test_legs_that_cannot_be_are_told_where(one, legs, words, where):
    told = one("TARNO", legs, status=422)
    assert words in told["message"]
    assert told["where"] == where


def test_a_leg_without_a_quote_leaves_the_structure_unpriced(one, market):
    found = None
    for row in np.flatnonzero(market.optionable()):
        chain = read_chain(market.store, market.id(int(row)), market.snapshot.taken_at)
        days = {e.expiration for e in market.readable_expirations(int(row)) if e.years > 0}
        poor = chain.filter((chain["bid"] == 0) & chain["expiration"].is_in(list(days)))
        if poor.height:
            found = market.name(int(row)).symbol, poor.row(0, named=True)
            break
    assert found is not None
    symbol, leg = found
    right = "C" if leg["is_call"] else "P"
    made = one(symbol, f"+1{right}{leg['strike']:g}@{leg['expiration']}")["structure"]
    assert "nobody bids" in made["problem"]
    assert made["cost"] is made["max_profit"] is made["max_loss"] is made["capital"] is None
    assert all(said["chance_of_profit"] is None for said in made["judged"])
    assert made["breakevens"] == []


def test_an_unbounded_loss_is_never_a_number(one, look, symbols):
    page = look(
        universe=f"name:{symbols[0]}",
        search={"kinds": ["short_strangle"]},
        columns=["max_loss", "capital", "chance_of_max_loss_market"],
        count=3,
    )
    assert column(page, "max_loss") == [None] * 3
    assert all(value > 0 for value in column(page, "capital"))
    symbol, legs = page["rows"][0]["key"].split(" ", 1)
    made = one(symbol, legs)
    assert made["structure"]["unbounded_loss"]
    assert made["structure"]["max_loss"] is None
    assert any("no bound" in flag["words"] for flag in made["flags"])


def test_the_shape_over_time_goes_from_what_it_costs_to_what_it_pays(one, look, symbols):
    line = look(universe=f"name:{symbols[0]}", search={"kinds": ["iron_condor"]}, count=1)["rows"][0]
    symbol, legs = line["key"].split(" ", 1)
    told = one(symbol, legs, ahead=0, entry=0)
    made = told["structure"]
    at = told["prices"].index(told["spot"])
    assert made["between"] == pytest.approx(made["today"], abs=1e-6)
    # At the fitted surface today it is worth what it costs at mid, nearly.
    assert abs(made["today"][at]) < 0.5 * made["quoted_width"] + 5
    end = one(symbol, legs, ahead=told["days"], entry=0)["structure"]
    assert end["between"] == pytest.approx(end["at_end"], abs=1e-6)
    calmer = one(symbol, legs, ahead=0, shift=-5, entry=0)["structure"]
    assert calmer["between"][at] > made["today"][at], "a short condor gains when volatility falls"
    assert [round(sum(said["outcomes"]), 6) for said in made["judged"]] == [100.0] * 3
    assert told["path"][-1]["profit"] == pytest.approx(made["at_end"][at], abs=0.01)
    other = one(symbol, legs, against="+100S")
    assert other["against"]["label"] == "Own structure"
    assert other["against"]["at_end"][0] == pytest.approx(100 * (other["prices"][0] - other["spot"]))


def test_a_file_has_what_the_page_has(client, look, symbols):
    asked = {
        "stack": {"universe": f"name:{symbols[0]}", "rules": [{"text": "chance_of_profit_market >= 60"}]},
        "search": {"kinds": ["put_credit"]},
    }
    page = client.post("/api/structures", json={**asked, "columns": ["cost"], "count": 1_200}).json
    file = client.post(
        "/api/structures/export", json={**asked, "format": "csv", "columns": ["cost"], "name": "tonight"}
    )
    assert file.status_code == 200
    lines = list(csv.reader(io.StringIO(file.text)))
    body = [line for line in lines if line and line[0] == symbols[0]]
    assert len(body) == page["survivors"]
    assert [line[2].lstrip("'") for line in body] == [row["key"].split(" ", 1)[1] for row in page["rows"]]


def test_another_day_is_made_of_that_days_quotes(look, market, symbols):
    days = sorted({snapshot.session for snapshot in market.snapshots})
    then = look(universe=f"name:{symbols[0]}", as_of=str(days[-2]), columns=["dte"], count=5)
    assert (then["session"], then["newest"]) == (str(days[-2]), False)
    assert then["rows"]
    early = look(universe=f"name:{symbols[0]}", as_of="2026-03-02")
    assert "No quotes of this session are kept" in early["reason"]


def test_the_record_of_opinions_is_what_came(client, market):
    for _ in range(20):
        # It is made behind the request that asks first.
        told = client.get("/api/structures/record", query_string={"symbol": "TARNO"}).json
        if "market" in told:
            break
    bands = {line["band"]: line for line in told["market"]["bands"]}
    assert told["market"]["cases"] > 5_000
    came = [line["came"] for line in told["market"]["bands"]]
    assert came == sorted(came)
    # Whatever is simulated, options and outcomes come from one world: they cannot be far apart over a hundred thousand cases.
    assert bands[1.0]["said"][0] == pytest.approx(bands[1.0]["came"], abs=6)
    scores = {one["opinion"]: one["score"] for one in told["market"]["opinions"]}
    assert told["market"]["nearest"] == min(scores, key=scores.get)
    assert told["name"]["cases"] >= 30
    for opinion in told["market"]["opinions"]:
        assert sum(tenth["cases"] for tenth in opinion["tenths"]) > 5_000


def plan(legs: str, symbol: str = "TARNO", **more) -> dict:
    return {
        "symbol": symbol,
        "legs": legs,
        "why": {"page": "Structures", "words": "dear before the report", "link": "/structures?u=tray"},
        **more,
    }


def test_a_plan_is_kept_told_today_changed_dropped_and_brought_back(client, look):
    line = look(universe="name:TARNO", search={"kinds": ["put_credit"]}, count=1)["rows"][0]
    legs = line["key"].split(" ", 1)[1]
    exits = {"profit_pct": 50, "loss_pct": 200, "days_left": 21, "price_below": 1_000, "on": "2026-10-01"}
    kept = client.post(
        "/api/structures/plans", json=plan(legs, entry_limit=-100, exits=exits, notes="sell into strength")
    )
    assert kept.status_code == 200, kept.text
    made = kept.json
    assert (made["label"], made["legs"], made["made_on"]) == ("Put credit vertical", legs, "2026-09-09")
    assert made["profit"] == pytest.approx(made["worth"] - made["cost"])
    reached = {exit["key"]: exit["reached"] for exit in made["exits_now"]}
    assert list(reached) == list(exits)
    assert reached["price_below"] is True
    assert reached["on"] is False
    listed = client.get("/api/structures/plans").json["plans"]
    assert [p["id"] for p in listed if p["id"] == made["id"]] == [made["id"]]
    changed = client.put(
        f"/api/structures/plans/{made['id']}", json=plan(legs, notes="changed", version=made["version"])
    ).json
    assert (changed["notes"], changed["cost"], changed["version"]) == ("changed", made["cost"], made["version"] + 1)
    stale = client.put(f"/api/structures/plans/{made['id']}", json=plan(legs, notes="late", version=made["version"]))
    assert (stale.status_code, stale.json["type"]) == (409, "changed_elsewhere")
    assert client.delete(f"/api/structures/plans/{made['id']}").status_code == 200
    assert all(p["id"] != made["id"] for p in client.get("/api/structures/plans").json["plans"])
    assert client.delete(f"/api/structures/plans/{made['id']}").status_code == 404
    assert client.post(f"/api/structures/plans/{made['id']}/restore").status_code == 200
    assert any(
        p["id"] == made["id"] and p["notes"] == "changed" for p in client.get("/api/structures/plans").json["plans"]
    )
    client.delete(f"/api/structures/plans/{made['id']}")


def test_a_plan_on_legs_that_are_not_there_is_not_kept(client):
    before = client.get("/api/structures/plans").json["plans"]
    for legs, words in (
        ("+1P50.3@2026-10-16", "Nearest strikes"),
        ("+1P50@2020-10-16", "expired"),
        ("x", "cannot be read"),
    ):
        answer = client.post("/api/structures/plans", json=plan(legs))
        assert answer.status_code == 422
        assert words in answer.json["message"]
    assert client.post("/api/structures/plans", json=plan("+100S", symbol="NOONE")).status_code == 404
    assert client.post("/api/structures/plans", json=plan("+100S", exits={"profit_pct": -3})).status_code == 422
    assert client.get("/api/structures/plans").json["plans"] == before


def test_structures_together_gain_and_lose_what_each_does(client, look, one, market, symbols):
    rows = [
        look(universe=f"name:{symbol}", search={"kinds": [kind]}, sort=["dte"], count=1)["rows"][0]
        for symbol, kind in zip(symbols, ["iron_condor", "put_credit", "long_straddle"], strict=False)
    ]
    wanted = [dict(zip(("symbol", "legs"), row["key"].split(" ", 1), strict=True)) for row in rows]
    wanted += [
        {"symbol": symbols[0], "legs": "+100S"},
        {"symbol": symbols[0], "legs": "-1C1@2026-10-16"},
        {"symbol": "NOONE", "legs": "+100S"},
    ]
    told = client.post("/api/structures/together", json={"structures": wanted}).json
    assert told["moves"] == [-2, -1, 1, 2]
    for asked, row in zip(wanted[:3], told["rows"], strict=False):
        said = one(**asked)
        alone = {what["words"]: what["profit"] for what in said["what_if"]}
        now, move = said["path"][0], float(market.metric("next_day_move")[market.row(asked["symbol"])])
        for greek, unit in (("delta", move), ("gamma", move**2), ("theta", 1), ("vega", 1)):
            assert row["gains"][greek] == pytest.approx(now[greek] * unit)
        assert row["gains"]["at_moves"][1] == pytest.approx(alone["one expected day down"], rel=0.02, abs=0.5)
        assert row["gains"]["at_moves"][2] == pytest.approx(alone["one expected day up"], rel=0.02, abs=0.5)
    at = market.row(symbols[0])
    day = float(market.metric("next_day_move")[at])
    shares = told["rows"][3]["gains"]
    assert shares["at_moves"] == pytest.approx([100 * k * day for k in (-2, -1, 1, 2)])
    assert (shares["delta"], shares["gamma"]) == (pytest.approx(100 * day), 0)
    assert "Nearest" in told["rows"][4]["problem"]
    assert told["rows"][5]["problem"]
    assert told["rows"][4]["gains"] is told["rows"][5]["gains"] is None
    counted = [row["gains"] for row in told["rows"][:4]]
    for key in ("delta", "gamma", "theta", "vega", "worst"):
        assert told["total"][key] == pytest.approx(sum(gains[key] for gains in counted))
    assert told["total"]["at_moves"] == pytest.approx(np.sum([gains["at_moves"] for gains in counted], axis=0))
    # Shares alone say which day was the worst, and how names moved together.
    only = client.post("/api/structures/together", json={"structures": [wanted[3]]}).json
    close = market.frame.close[at].astype(float)
    returns = close[1:] / close[:-1] - 1
    assert only["worst_on"] == str(market.frame.sessions[1:][np.nanargmin(returns)])
    assert only["total"]["worst"] == pytest.approx(100 * close[-1] * np.nanmin(returns), rel=1e-6)
    assert only["correlation"] == [[1.0]]
    first, other = (told["symbols"].index(symbols[k]) for k in (0, 1))
    pair = np.stack([market.frame.close[market.row(symbols[k])].astype(float) for k in (0, 1)])
    pair = (pair[:, 1:] / pair[:, :-1] - 1)[:, np.isfinite(pair[:, 1:] / pair[:, :-1]).all(axis=0)]
    assert told["correlation"][first][other] == pytest.approx(np.corrcoef(pair)[0, 1])


@pytest.mark.parametrize("count", [0, 61])
def test_how_many_are_held_together_has_a_bound(client, count):
    asked = {"structures": [{"symbol": "TARNO", "legs": "+100S"}] * count}
    assert client.post("/api/structures/together", json=asked).status_code == 422


def test_when_nothing_can_be_priced_nothing_is_summed(client):
    told = client.post("/api/structures/together", json={"structures": [{"symbol": "TARNO", "legs": "x"}]}).json
    assert (told["total"], told["symbols"], told["worst_on"]) == (None, [], None)
    assert "cannot be read" in told["rows"][0]["problem"]


def test_kinds_tell_what_they_are(client):
    kinds = client.get("/api/structures/kinds").json["kinds"]
    assert len(kinds) >= 20
    condor = next(kind for kind in kinds if kind["key"] == "iron_condor")
    assert condor["legs"] == ["+1 put", "-1 put", "-1 call", "+1 call"]


FACTS = {
    "report inside": "a report comes inside",
    "dividend inside": "ex-dividend",
    "pinned": "in its last week",
    "wide market": "its market is",
    "thin leg": "fewer than 50 contracts open",
}


def test_facts_are_what_the_market_says_and_the_same_on_both_pages(look, one, market):
    keys = ["min_leg_open_interest", "quoted_width", "mid", "dte", "days_to_earnings"]
    search = {
        "kinds": ["covered_call", "short_straddle"],
        "least_days": 0,
        "most_days": 40,
        "measure": "moves",
        "high": 0.6,
    }
    seen: dict[str, int] = dict.fromkeys(FACTS, 0)
    for rule in (
        "dividend_inside",
        "pinned",
        "report_inside",
        "min_leg_open_interest < 50",
        "quoted_width > 0.3 * abs(mid)",
    ):
        page = look(
            rule, universe="all", search=search | {"at_most": {"count": 1, "of": "name"}}, columns=keys, count=6
        )
        assert page["rows"], rule
        for i, line in enumerate(page["rows"]):
            open_interest, width, mid, days, report = (column(page, key)[i] for key in keys)
            row, legs = market.row(line["symbol"]), legs_of(line)
            spot, day = market.price(row), float(market.metric("next_day_move")[row])
            declared = read_declared(market.store, [market.id(row)], market.today, market.today)["ex_date"].to_list()
            sold = [leg for leg in legs if leg.quantity < 0]
            holds = {
                "report inside": report is not None and market.report_inside(row, legs[0].expiration),
                "dividend inside": any(
                    leg.is_call and leg.strike < spot and ex <= leg.expiration for leg in sold for ex in declared
                ),
                "pinned": days <= 7 and any(abs(leg.strike - spot) <= day / 2 for leg in sold),
                "wide market": width > 0.25 * abs(mid),
                "thin leg": open_interest < 50,
            }
            told = [flag["words"] for flag in one(*line["key"].split(" ", 1))["flags"]]
            for fact, words in FACTS.items():
                assert (fact in line["flags"]) == holds[fact], (line["key"], fact)
                assert any(words in flag for flag in told) == holds[fact], (line["key"], fact)
                seen[fact] += holds[fact]
    assert min(seen.values()) > 0, seen


def test_early_exercise_is_likely_when_the_dividend_is_more_than_the_time_that_is_left(look, one, market):
    search = {"kinds": ["covered_call"], "least_days": 0, "most_days": 60, "measure": "moves", "low": -3, "high": 0}
    page = look("dividend_inside", universe="all", search=search | {"at_most": {"count": 2, "of": "name"}}, count=40)
    said = set()
    for line in page["rows"]:
        made = one(*line["key"].split(" ", 1))
        row, leg = market.row(line["symbol"]), made["structure"]["legs"][0]
        amount = read_declared(market.store, [market.id(row)], market.today, market.today)["amount"][0]
        likely = amount > leg["mid"] - (market.price(row) - leg["strike"])
        flag = next(flag for flag in made["flags"] if "ex-dividend" in flag["words"])
        assert flag["words"].endswith("likely" if likely else "possible")
        assert flag["on"] is not None
        said.add(likely)
    assert said == {True, False}


def test_exits_are_reached_at_their_bounds(market):
    spot = market.price(market.row("TARNO"))

    def now(cost: float, max_profit: float | None = None, **exits) -> PlanView:
        kept = Plan(
            id=1, owner_id=1, version=1, symbol="TARNO", legs="+100S,+1P40@2026-10-16", label="x", entry_limit=None, notes="",
            why={"page": "x", "words": "x", "link": ""}, exits=exits, made_on=market.today, data_version=1, cost=cost,
            max_profit=max_profit, spot=spot,
        )  # fmt: skip
        return plan_view(market, kept)

    def reached(*made, **exits) -> list[bool | None]:
        return [exit.reached for exit in now(*made, **exits).exits_now]

    worth = now(0.0).worth
    assert worth == pytest.approx(100 * spot, rel=0.02)
    # A hundred up of two hundred that it may make at most, and of what it cost where that has no bound.
    assert reached(worth - 100.0, 200.0, profit_pct=49.9) == [True]
    assert reached(worth - 100.0, 200.0, profit_pct=50.1) == [False]
    assert reached(worth / 1.25, profit_pct=24.9) == [True]
    assert reached(worth / 1.25, profit_pct=25.1) == [False]
    assert reached(worth / 0.8, loss_pct=19.9) == [True]
    assert reached(worth / 0.8, loss_pct=20.1) == [False]
    assert reached(worth / 1.25, loss_pct=20) == [False], "a profit is no loss"
    days = (dt.date(2026, 10, 16) - market.today).days
    assert reached(worth, days_left=days) == [True]
    assert reached(worth, days_left=days - 1) == [False]
    assert reached(worth, price_above=spot, price_below=spot) == [True, True]
    assert reached(worth, price_above=spot + 0.01, price_below=spot - 0.01) == [False, False]
    assert reached(worth, on=str(market.today)) == [True]
    assert reached(worth, on=str(market.today + dt.timedelta(1))) == [False]
