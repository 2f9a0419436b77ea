"""Plans over HTTP: kept, told today, exits, and held together."""

import datetime as dt

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from sqlalchemy.orm import Session

from flinch.features.structures.plan_schemas import PlanView
from flinch.features.structures.plans import plan_view
from flinch.store.owned.models import Plan


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


def test_what_could_not_be_read_again_is_not_kept_and_the_list_goes_on(client: FlaskClient, owned: Engine):
    why = {"page": "Screen", "words": "", "link": ""}
    refused = client.post("/api/structures/plans", json={"symbol": "TARNO", "legs": "999999S,1S", "why": why})
    assert refused.status_code == 422
    assert "999,999 shares at most" in refused.json["message"]
    assert client.get("/api/structures/plans").json["plans"] == []
    kept = client.post("/api/structures/plans", json={"symbol": "TARNO", "legs": "+100S", "why": why}).json
    try:
        with Session(owned) as session, session.begin():
            session.get_one(Plan, kept["id"]).legs = "+1000000S"
        told = client.get("/api/structures/plans")
        assert told.status_code == 200
        (plan,) = told.json["plans"]
        assert "cannot be read" in plan["problem"]
        assert plan["words"] == "+1000000S"
    finally:
        client.delete(f"/api/structures/plans/{kept['id']}")
