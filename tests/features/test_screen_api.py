"""The Screen's address, through HTTP on a real database."""

import itertools

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.core.rules import METRICS, RULE_METRICS
from flinch.market import Market


def screen(client: FlaskClient, *rules: str, universe: str = "all") -> dict:
    answer = client.get("/api/screen", query_string={"universe": universe, "rule": list(rules)})
    assert answer.status_code == 200, answer.text
    return answer.json


def test_without_rules_the_whole_universe_survives(client: FlaskClient):
    everyone = screen(client)
    assert everyone["universe"] == len(everyone["symbols"]) == 502
    assert screen(client, universe="stock")["universe"] == 480
    assert screen(client, universe="fund")["universe"] == 20
    assert set(everyone["columns"]) == set(METRICS)
    assert all(len(column) == 502 for column in everyone["columns"].values())


def test_survivors_meet_every_rule_and_the_funnel_adds_up(client: FlaskClient):
    found = screen(client, "price:15..250", "avg_option_volume_21:500..", "iv_hv_ratio:1.2..", "days_to_earnings:12..")
    columns = found["columns"]
    assert all(15 <= value <= 250 for value in columns["price"])
    assert all(value >= 1.2 for value in columns["iv_hv_ratio"])
    steps = found["rules"]
    assert steps[0]["reached"] == 502
    for step, following in itertools.pairwise(steps):
        assert following["reached"] == step["survivors"]
    assert steps[-1]["survivors"] == len(found["symbols"])
    for step in steps:
        assert sum(step["histogram"]["counts"]) == step["reached"] - step["unknown"]


def test_the_lone_cut_is_what_dropping_the_rule_brings_back(client: FlaskClient):
    rules = ["price:15..250", "avg_option_volume_21:500..", "iv_rank:40.."]
    whole = screen(client, *rules)
    for n, step in enumerate(whole["rules"]):
        without = screen(client, *rules[:n], *rules[n + 1 :])
        assert step["lone_cut"] == len(without["symbols"]) - len(whole["symbols"])


def test_names_lost_to_missing_data_are_counted_only_where_a_rule_cuts(client: FlaskClient, market: Market):
    row = screen(client, "market_cap:..", "market_cap:0..")["rules"]
    assert (row[0]["missing"], row[0]["unknown"], row[0]["survivors"]) == (0, 22, 502)
    assert (row[1]["missing"], row[1]["unknown"], row[1]["survivors"]) == (22, 22, 480)
    assert np.isnan(market.columns["market_cap"].values).sum() == 22


def test_a_missing_value_is_null_and_says_why(client: FlaskClient):
    found = screen(client)
    row = found["symbols"].index("FENSO")
    assert found["columns"]["iv30"][row] is None
    assert found["reasons"]["iv30"]["FENSO"] == "no usable option quotes in this session"
    assert found["reasons"]["days_to_earnings"]["TRAFA"] == "does not report earnings"


def test_the_histograms_edges_stay_while_the_rules_before_it_change(client: FlaskClient):
    wide = screen(client, "price:..", "iv30:..")["rules"][1]["histogram"]
    narrow = screen(client, "price:40..60", "iv30:..")["rules"][1]["histogram"]
    assert wide["edges"] == narrow["edges"]
    assert sum(narrow["counts"]) < sum(wide["counts"])


@pytest.mark.parametrize(
    ("rule", "says", "character"),
    [
        ("price:25..5", "the lower edge 25 is above the upper edge 5. Swap them", 7),
        ("price:abc..5", "'abc' is not a number", 7),
        ("price:1..5x", "'5x' is not a number", 10),
        ("price:nan..5", "'nan' is not a number", 7),
        ("price:1e999..", "'1e999' is not a number", 7),
        ("price:5", "write the range as lower..upper", 6),
        ("price", "write the range as lower..upper", 6),
        ("prize:1..2", "There is no rule on 'prize'. Rules are on price, avg_volume_50", 1),
        ("hv21:1..2", "There is no rule on 'hv21'", 1),
        ("price:" + "9" * 100 + "..", "80 characters at most", 81),
        ("price:__import__('os')..", "is not a number", 7),
        ("'; DROP TABLE name; --:1..", "There is no rule on", 1),
        ("⟦▮⟧:1..", "There is no rule on '⟦▮⟧'", 1),
    ],
)
def test_a_bad_rule_says_what_to_do_and_at_which_character(client: FlaskClient, rule: str, says: str, character: int):
    answer = client.get("/api/screen", query_string={"rule": ["iv30:20..", rule]})
    assert answer.status_code == 422
    assert says in answer.json["message"]
    assert answer.json["where"].endswith(f"character {character}")


def test_bad_query_fields_are_named(client: FlaskClient):
    answer = client.get("/api/screen?universe=everything")
    assert answer.status_code == 422
    assert answer.json["where"] == "universe"
    many = client.get("/api/screen", query_string={"rule": ["price:.."] * 61})
    assert many.status_code == 422
    assert many.json["where"] == "rule"


def test_every_rule_metric_can_be_ruled_on(client: FlaskClient):
    found = screen(client, *[f"{key}:.." for key in RULE_METRICS])
    assert [step["metric"] for step in found["rules"]] == list(RULE_METRICS)
    assert len(found["symbols"]) == 502
