"""One structure over HTTP: its shape, its facts, how good opinions were, and legs that cannot be."""

import numpy as np
import pytest
from tests.features.structures_told import column, legs_of

from flinch.store.market.chain import read_chain, read_declared


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
