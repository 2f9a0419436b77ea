"""The Off-exchange page over HTTP: positions, levels, the session's prints, windows, files."""

import io
import json

import numpy as np
import polars as pl
import pytest
from flask.testing import FlaskClient
from tests.taken import taken

from flinch.core.shelves import POSITIONS
from flinch.market import View
from flinch.market.prints import market_prints


@pytest.fixture
def ask(client: FlaskClient):
    def asked(*rules: str, universe="all", status=200, **body):
        stack = {"universe": universe, "rules": [{"text": rule} for rule in rules]}
        answer = client.post("/api/off-exchange", json={"stack": stack, **body})
        assert answer.status_code == status, answer.text
        return answer.json

    return asked


def test_names_stand_where_a_plain_loop_puts_them(ask, market: View):
    window = {"sessions": 6, "least": 2_000_000}
    found = ask(window=window, count=1_200)
    assert found["total"] == found["survivors"] == 502
    assert sum(found["positions"].values()) == 502
    assert (found["first_session"], found["last_session"]) == (str(market.date(market.last - 5)), "2026-09-09")
    prints = market_prints(market)
    for name in found["names"][::17]:
        row = market.row(name["symbol"])
        mine = prints.bursts_of(row, market.last - 5, market.last)
        sums: dict[float, float] = {}
        for price, notional in zip(prints.bursts.price[mine].round(2), prints.bursts.notional[mine], strict=True):
            sums[price] = sums.get(price, 0.0) + notional
        levels = sorted(price for price, notional in sums.items() if notional >= 2_000_000)
        price = market.price(row)
        assert name["count"] == len(levels)
        if not levels:
            assert name["position"] == ("none that large" if mine.size else "none")
            continue
        expected = "above all" if price > levels[-1] else "below all" if price < levels[0] else "within"
        assert name["position"] == expected
        above = [level for level in levels if level >= price]
        assert name["above"] == (pytest.approx(above[0]) if above else None)
        if above:
            assert name["above_pct"] == pytest.approx(100 * (above[0] / price - 1), abs=1e-6)
            assert name["above_moves"] == pytest.approx(
                (above[0] - price) / market.metric("one_day_move")[row], abs=1e-6
            )
        assert name["largest"] == pytest.approx(max(sums, key=lambda level: sums[level]))
        assert {level["price"] for level in name["levels"]} <= set(levels)


def test_positions_are_switches_and_counts_stay(ask):
    every = ask(count=1_200)
    for position in POSITIONS:
        some = ask(positions=[position], count=1_200)
        assert some["positions"] == every["positions"]
        assert some["total"] == some["shown"] == every["positions"][position]
        assert {name["position"] for name in some["names"]} <= {position}
    both = ask(positions=["above all", "below all"])
    assert both["shown"] == every["positions"]["above all"] + every["positions"]["below all"]


def test_it_is_a_table_of_things_with_rules_and_a_universe(ask):
    found = ask("market_cap >= 5e9", "change_pct > 0", universe="stock", aim=30)
    assert 0 < found["survivors"] < found["universe"] == 480
    assert found["rules"][0]["survivors"] >= found["rules"][1]["survivors"] == found["survivors"]
    assert found["rules"][0]["aim"]


@pytest.mark.parametrize(
    "sort", ["-largest", "above_moves", "-below_moves", "symbol", "-share_pct", "days_to_earnings", "-short_pct"]
)
def test_rows_come_in_the_order_asked_for(ask, sort):
    found = ask(sort=sort, count=1_200)
    key = {"largest": "largest_notional"}.get(sort.removeprefix("-"), sort.removeprefix("-"))
    values = [name[key] for name in found["names"]]
    known = [value for value in values if value is not None]
    assert values[: len(known)] == known, "what is missing comes last"
    assert known == sorted(known, reverse=sort.startswith("-"))
    assert found["symbols"] == [name["symbol"] for name in found["names"]]


def test_size_in_shares_and_share_of_volume(ask, market: View):
    found = ask(window={"sessions": 5, "least": 50_000, "unit": "shares"}, count=1_200)
    prints = market_prints(market)
    for name in found["names"][::40]:
        row = market.row(name["symbol"])
        assert all(level["shares"] >= 50_000 for level in name["levels"])
        mine = prints.of(row, market.last - 4, market.last)
        volume = np.nansum(market.frame.volume[row, -5:])
        if volume > 0:
            assert name["share_pct"] == pytest.approx(100 * prints.shares[mine].sum() / volume, rel=1e-9)


def test_the_session_s_prints_newest_first_with_bursts_once(ask, market: View, stories):
    story = stories["four prints in a second that are one"]
    found = ask(f'symbol == "{story.symbol}"', view="prints", window={"least": 50_000}, count=1_200)
    times = [line["at"] for line in found["prints"]]
    assert times == sorted(times, reverse=True)
    (burst,) = [line for line in found["prints"] if line["shares"] == 36_000]
    assert burst["prints"] == 4
    assert burst["at"].startswith("2026-09-09T18:05:12.100")
    assert burst["part"] == "regular hours"
    assert burst["share_pct"] == pytest.approx(100 * 36_000 / market.frame.volume[market.row(story.symbol), -1])
    average = stories["an average price far from the market"]
    found = ask(f'symbol == "{average.symbol}"', view="prints", window={"least": 3_000_000})
    (line,) = found["prints"]
    assert line["conditions"] == ["average price"]
    assert line["away_pct"] > 10
    assert found["symbols"] == [average.symbol]
    levels = ask(f'symbol == "{average.symbol}"', window={"least": 3_000_000})["names"][0]
    assert 14.9 not in [level["price"] for level in levels["levels"]]


def test_yesterday_s_prints_have_an_evening(ask):
    found = ask(view="prints", as_of="2026-09-08", window={"least": 200_000}, count=1_200)
    assert found["session"] == "2026-09-08"
    assert {line["part"] for line in found["prints"]} == {"regular hours", "after the close"}


def test_as_of_a_session_nothing_later_is_known(ask, market: View):
    then = ask(as_of="2026-08-26", count=1_200, window={"sessions": 10})
    dated = ask(window={"first": then["first_session"], "last": then["last_session"]}, count=1_200)
    assert then["last_session"] == dated["last_session"] == "2026-08-26"
    for one, two in zip(*(sorted(f["names"], key=lambda n: n["symbol"]) for f in (then, dated)), strict=True):
        assert one["count"] == two["count"], "the same levels; the price is another"
    row = market.row(then["names"][0]["symbol"])
    assert then["names"][0]["price"] == pytest.approx(
        market.frame.close[row, market.session_on(market.date(market.last - 9))]
    )


@pytest.mark.parametrize(
    ("window", "words"),
    [
        ({"sessions": 0}, "Look at 1 to 60 sessions, not 0."),
        ({"sessions": 61}, "Look at 1 to 60 sessions, not 61."),
        ({"first": "2026-09-09", "last": "2026-09-01"}, "9 Sep 2026 is after 1 Sep 2026. Give the earlier day first."),
        ({"first": "2025-01-01", "last": "2025-02-01"}, "Prints are kept from 15 Jun 2026 to 9 Sep 2026."),
        ({"first": "2026-10-01"}, "1 Oct 2026 is after 9 Sep 2026."),
        ({"first": "2026-09-05", "last": "2026-09-07"}, "No session lies between these days."),
        ({"least": 0}, "give a size above zero"),
        ({"least": -5}, "give a size above zero"),
    ],
)
def test_a_window_that_cannot_be_says_why(ask, window, words):
    assert words in ask(window=window, status=422)["message"]


def test_before_any_prints_it_is_empty_and_answers(ask):
    found = ask(as_of="2026-01-05")
    assert found["first_session"] is None
    assert found["positions"]["none"] == found["survivors"]
    assert ask(as_of="2026-01-05", view="prints")["prints"] == []


@pytest.mark.parametrize("view", ["names", "prints"])
def test_it_is_taken_out_with_its_window(client: FlaskClient, view):
    body = {
        "stack": {"universe": "stock", "rules": [{"text": "market_cap >= 5e9"}]},
        "view": view,
        "positions": ["within"],
    }
    shown = client.post("/api/off-exchange", json=body | {"count": 1_200}).json
    csv = taken(client, "/api/off-exchange/export", body | {"format": "csv"})
    rows = pl.read_csv(io.StringIO(csv.text), comment_prefix="#")
    assert rows.height == shown["total"]
    told = json.loads(taken(client, "/api/off-exchange/export", body | {"format": "json"}).text)
    assert "2026-08-12 to 2026-09-09" in json.dumps(told)
    assert "nobody says whether a print was bought or sold" in json.dumps(told)
    assert taken(client, "/api/off-exchange/export", body | {"format": "xlsx"}).data[:2] == b"PK"


def test_the_record_of_the_names_left_beside_that_of_all(client: FlaskClient, market: View):
    def ask(*rules: str, **more) -> dict:
        stack = {"universe": "all", "rules": [{"text": rule} for rule in rules]}
        answer = client.post("/api/off-exchange/record", json={"stack": stack, **more})
        assert answer.status_code == 200, answer.text
        return answer.json

    found = ask('kind == "stock"', "market_cap >= 1e10")
    mine, every, *parts = found["rows"]
    assert mine["of"] == f"the {found['names']} names left"
    assert every == client.get("/api/dossier/prints/VUSVO").json["record"][1]
    assert 0 < mine["tests"] < every["tests"]
    above, below, *strengths = parts
    assert len(strengths) == 3
    for split in ((above, below), strengths):
        for counted in ("tests", "placebo_tests"):
            assert sum(part[counted] for part in split) == mine[counted]
        held = sum(part["tests"] * (part["held_pct"] or 0) for part in split)
        assert held == pytest.approx(mine["tests"] * mine["held_pct"])
    # What reaches a shelf from above has its placebo above price, and that is reached from below.
    assert above["tests"] != below["tests"]
    one = ask('symbol == "VUSVO"')
    assert one["rows"][0]["of"] == "the name left"
    own = client.get("/api/dossier/prints/VUSVO").json["record"][0]
    assert one["rows"][0] | {"of": "VUSVO"} == own
    then = ask('kind == "stock"', as_of=str(market.sessions[-10]))
    assert then["rows"][1]["tests"] < every["tests"]
    standing = ask('kind == "stock"', positions=["above all"])
    assert standing["names"] < ask('kind == "stock"')["names"]
    none = ask('kind == "stock"', as_of="2026-03-02")
    assert none["first_session"] is None
    assert none["rows"][1]["sentence"] == "No test has been decided."
