"""Searching structures over HTTP: what is made, rules, order, the front, files, and what cannot be."""

import csv
import io

import numpy as np
import pytest
from tests.features.structures_told import column, legs_of
from tests.taken import taken

from flinch.screening.searches import SEARCHES
from flinch.store.market.chain import read_chain

EXAMPLE = (
    "chance_of_profit_past >= 55 and credit >= width / 5 and edge_forecast > -50 and min_leg_open_interest >= 5 "
    "and days_to_earnings > dte"
)


NARROW = {"kinds": ["put_credit", "call_credit"], "least_days": 25, "most_days": 50, "high": 0.3, "most_width": 5}


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


def test_weights_order_and_lists_are_spread_out(look, client, market, symbols):
    # A fund and one of its members move together.
    client.delete("/api/tray")
    client.post(
        "/api/tray",
        json={"symbols": [*symbols, "FELRO", "VESVI"], "why": {"page": "test", "words": "x", "link": "", "values": {}}},
    )
    weights = [{"axis": "chance_of_profit_past", "weight": 2}, {"axis": "return_on_capital", "weight": 1}]
    keys = ["chance_of_profit_past", "return_on_capital"]
    narrow = {"weights": weights, "kinds": ["put_credit"], "most_width": 2, "most_days": 45}
    page = look(universe="tray", search=narrow, columns=keys, count=1_200)
    assert page["total"] == page["survivors"] == len(page["rows"])
    both = list(zip(column(page, keys[0]), column(page, keys[1]), strict=True))

    def standing(values):
        return [(sum(v < x for v in values) + 0.5 * sum(v == x for v in values)) for x in values]

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
    kept = [row["symbol"] for row in together["rows"]]
    assert len(kept) == len(set(kept)) < len(set(names))
    close = np.log(
        np.stack([market.frame.close[market.row(symbol), -253:].astype(float) for symbol in dict.fromkeys(names)])
    )
    alike = dict(zip(dict.fromkeys(names), np.corrcoef(np.diff(close)) >= 0.6, strict=True))
    places = {symbol: place for place, symbol in enumerate(alike)}
    for symbol in alike:
        others = [other for other in kept if other != symbol and alike[symbol][places[other]]]
        assert (symbol in kept) == (not others), (
            "who is left out moves with one that is kept, and none that are kept do"
        )
    sorted_page = look(
        universe="tray", sort=["-dte", "symbol"], search={"kinds": ["put_credit"]}, columns=["dte"], count=300
    )
    days = column(sorted_page, "dte")
    assert days == sorted(days, reverse=True)
    by_name = [row["symbol"] for row in sorted_page["rows"] if row["key"].endswith(sorted_page["rows"][0]["key"][-10:])]
    assert by_name == sorted(by_name)
    falling = look(universe="tray", sort=["-symbol"], search={"kinds": ["put_credit"]}, count=1_200)["rows"]
    assert [row["symbol"] for row in falling] == sorted((row["symbol"] for row in falling), reverse=True)
    assert falling[0]["symbol"] == max(names)


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


def test_a_file_has_what_the_page_has(client, look, symbols):
    asked = {
        "stack": {"universe": f"name:{symbols[0]}", "rules": [{"text": "chance_of_profit_market >= 60"}]},
        "search": {"kinds": ["put_credit"]},
    }
    page = client.post("/api/structures", json={**asked, "columns": ["cost"], "count": 1_200}).json
    file = taken(client, "/api/structures/export", {**asked, "format": "csv", "columns": ["cost"], "name": "tonight"})
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


def test_kinds_tell_what_they_are(client):
    kinds = client.get("/api/structures/kinds").json["kinds"]
    assert len(kinds) >= 20
    condor = next(kind for kind in kinds if kind["key"] == "iron_condor")
    assert condor["legs"] == ["+1 put", "-1 put", "-1 call", "+1 call"]
