"""Evidence over HTTP: it counts what the screen itself finds, sees no future, and finds nothing where nothing was put."""

import threading

import numpy as np
import pytest
from flask.testing import FlaskClient
from tests.altered import altered
from tests.asked import ask_evidence

from flinch.core.rules import METRICS
from flinch.market import PLAIN, Version, View
from flinch.screening.starters import STARTERS


@pytest.fixture
def evidence(client: FlaskClient):
    def ask(*rules, status=200, universe="stock", **body):
        stack = {"universe": universe, "rules": [{"text": rule} for rule in rules]}
        answer = ask_evidence(client, {"stack": stack, **body})
        assert answer.status_code == status, answer.text
        return answer.json["evidence"] if status == 200 else answer.json

    return ask


def test_it_fires_where_the_screen_as_of_that_session_has_survivors(evidence, client: FlaskClient):
    rules = ("iv_rank >= 60", "close > sma(close, 50)", "abs(week_position) > 1")
    found = evidence(*rules)
    stack = {"universe": "stock", "rules": [{"text": rule} for rule in rules]}
    for place in (300, 410, 480, 503):
        body = {"stack": stack, "columns": [], "as_of": found["sessions"][place]}
        assert found["fired"][place] == len(client.post("/api/screen", json=body).json["symbols"])
    assert found["cases"] == sum(found["fired"])
    assert found["days"] == sum(count > 0 for count in found["fired"])


def test_altering_the_future_changes_no_metric_of_the_past(market: View):
    """Every metric of the catalogue: what was known on a session does not depend on what came."""
    frame, now = market.frame, 430

    def later_ones(values):
        out = values.copy()
        if out.shape[-1] == frame.sessions.size:
            out[..., now + 1 :] *= 1.7
        return out

    other = View(
        Version(
            altered(
                frame,
                **{key: later_ones(getattr(frame, key)) for key in ("open", "high", "low", "close", "volume")},
                implied={days: later_ones(values) for days, values in frame.implied.items()},
                daily={key: later_ones(values) for key, values in frame.daily.items()},
            )
        )
    )
    for key in METRICS:
        node = PLAIN.read(key).node
        one, two = market.at(now).column(node), other.at(now).column(node)
        np.testing.assert_array_equal(one.values, two.values, err_msg=key)


def test_most_starters_are_no_better_than_the_base_rate(evidence):
    """Nothing in the demo market pays by construction: of all directions looked at hardly any differ."""
    looks = told = 0
    for starter in STARTERS:
        rules = [rule.text for rule in starter.body.rules]
        found = evidence(*rules, universe=starter.body.universe)
        for followed in found["followed"]:
            verdict = next(m["verdict"] for m in followed["measures"] if m["measure"] == "mean")
            looks += verdict != "too few"
            told += verdict in ("above", "below")
    assert looks >= 30
    assert told <= 0.1 * looks


def test_the_monthly_edge_is_reached_about_as_often_as_options_price_it(evidence):
    found = evidence(
        "one_day_move_pct < 4", "abs(week_position) > 1", "abs(month_position) < 1", "week_position * month_position > 0",
        target={"kind": "month"},
    )  # fmt: skip
    target = found["target"]
    assert target["cases"] > 1000
    assert target["touched"]["value"] == pytest.approx(target["priced"], abs=0.08)
    assert target["touched"]["value"] > target["same_days"]["value"], "these names are nearer to their edge than others"
    assert target["verdict"] == "too few", "two years hold too few months"


def test_a_target_within_sessions(evidence):
    found = evidence("rsi(14) < 30", target={"kind": "up", "moves": 1, "sessions": 5})["target"]
    assert "1 expected move up within 5 sessions" in found["words"]
    # A touch of one deviation: twice the chance of ending beyond it, of which the skew takes some from a rise.
    assert 0.26 < found["priced"] < 0.317
    assert 0.15 < found["touched"]["value"] < 0.5
    by_distance = found["by_distance"]
    assert [at["moves"] for at in by_distance] == sorted(at["moves"] for at in by_distance)
    for key in ("priced", "touched"):
        shares = [at[key] for at in by_distance]
        assert shares == sorted(shares, reverse=True), "farther away is touched less often"
        assert shares[0] > 0.3 > 0.05 > shares[-1]
    (one,) = [at for at in by_distance if at["moves"] == 1]
    assert one["priced"] == pytest.approx(found["priced"])
    assert one["touched"] == pytest.approx(found["touched"]["value"], abs=0.01)
    assert one["cases"] <= found["cases"]
    fall = evidence("rsi(14) < 30", target={"kind": "down", "moves": 1, "sessions": 5})["target"]
    assert fall["priced"] > found["priced"], "the skew gives it to a fall"
    assert evidence("rsi(14) < 30", target={"kind": "month"})["target"]["by_distance"] == []


def test_the_first_session_of_a_stretch_counts_once(evidence):
    every, first = evidence("iv_rank >= 80"), evidence("iv_rank >= 80", fresh=True)
    assert 0 < first["cases"] < every["cases"]
    assert first["names"] == every["names"]


def test_what_cannot_be_followed_through_the_sessions_says_so(evidence, client: FlaskClient):
    assert "no rule with an edge" in evidence("iv30", status=422)["message"]
    assert "no rule with an edge" in evidence(status=422)["message"]
    assert evidence("iv_rnk > 3", status=422)["nearest"][0] == "iv_rank"
    stack = {"rules": [{"text": "close > sma(close, 10)", "bars": "15"}]}
    answer = ask_evidence(client, {"stack": stack})
    assert answer.status_code == 422
    assert "ten sessions only" in answer.json["message"]
    assert "never fired" in evidence("price < 0")["sentence"]


def test_few_days_are_too_few_to_say(evidence):
    found = evidence('symbol == "BULVI"', "abs(week_position) > 2.2")
    assert 0 < found["cases"] < 60
    assert "Too few to say" in found["sentence"] or "too few to say" in found["sentence"]


def test_evidence_that_is_cancelled_or_is_not_there_says_so(client: FlaskClient, app, monkeypatch: pytest.MonkeyPatch):
    """One that waits behind others: it tells how far it is, and stops when it is told to."""
    jobs = app.extensions["flinch"].jobs
    begun, go_on = threading.Event(), threading.Event()

    def slow(handle):
        handle.tell(0.3, "taking its time")
        begun.set()
        while not go_on.wait(0.01):
            handle.question()
        return ""

    monkeypatch.setitem(jobs._kinds, "evidence", slow)
    body = {"stack": {"rules": [{"text": "iv_rank > 71.5"}]}}
    try:
        first = client.post("/api/screen/evidence", json=body).json
        assert begun.is_set()
        assert (first["evidence"], first["percent"], first["stage"]) == (None, 30, "taking its time")
        assert client.post("/api/screen/evidence", json=body).json["id"] == first["id"], "it is under way already"
        assert client.delete(f"/api/jobs/{first['id']}").json == {"done": True}
        answer = client.get(f"/api/screen/evidence/{first['id']}")
        assert (answer.status_code, answer.json["type"]) == (409, "cancelled")
    finally:
        go_on.set()
    for gone in (client.get("/api/screen/evidence/999999999"), client.delete("/api/jobs/999999999")):
        assert (gone.status_code, gone.json["type"]) == (404, "no_such_job")


def on_tickets(client: FlaskClient, *rules, status=200, **body):
    stack = {"universe": "stock", "rules": [{"text": rule} for rule in rules]}
    answer = ask_evidence(client, {"stack": stack, "table": "tickets", "side": "lean", **body})
    assert answer.status_code == status, answer.text
    return answer.json["evidence"] if status == 200 else answer.json


def test_a_stack_of_tickets_fires_where_the_tape_as_of_that_session_has_names_left(client: FlaskClient):
    rules = ("is_call", 'side in ("ask",)', "not in_package", "premium >= 20_000", "1e9 <= market_cap <= 8e9")
    found = on_tickets(client, *rules)
    assert len(found["sessions"]) == 5
    stack = {"universe": "stock", "rules": [{"text": rule} for rule in rules]}
    for session, fired, eligible in zip(found["sessions"], found["fired"], found["eligible"], strict=True):
        body = {"stack": stack, "view": "names", "sessions": 1, "as_of": session}
        assert fired == client.post("/api/tape", json=body).json["total"] > 0
        every = client.post("/api/tape", json=body | {"stack": stack | {"rules": []}}).json["total"]
        assert fired < eligible == every
    assert found["cases"] == sum(found["fired"])
    assert [f["horizon"] for f in found["followed"]] == [1, 5, 10, 21]
    # Of the newest session nothing has followed yet.
    assert found["followed"][0]["cases"] == sum(found["fired"][:-1])
    assert "of 5 sessions. Too few to say" in found["sentence"]
    assert {m["verdict"] for f in found["followed"] for m in f["measures"]} == {"too few"}


def test_the_morning_after_a_ticket_is_no_part_of_its_evidence(client: FlaskClient):
    found = on_tickets(client, 'opening in ("confirmed",)')
    assert found["cases"] == 0


def test_the_lean_of_the_tickets_left_is_the_side_of_the_bet(client: FlaskClient, market: View):
    calls, puts = 'side in ("ask",)', 'side in ("bid",)'
    up = on_tickets(client, "is_call", calls, "not in_package", "premium >= 50_000")
    down = on_tickets(client, "is_call", puts, "not in_package", "premium >= 50_000")
    for found, side in ((up, "up"), (down, "down")):
        rules = ["is_call", calls if side == "up" else puts, "not in_package", "premium >= 50_000"]
        same = on_tickets(client, *rules, side=side)
        assert found["followed"][0]["measures"][0]["fired"] == same["followed"][0]["measures"][0]["fired"]
    nowhere = on_tickets(client, 'side in ("mid",)', "not in_package")
    assert nowhere["cases"] == 0 < nowhere["sideless"]


def test_a_stack_of_tickets_says_what_is_wrong_with_it(client: FlaskClient):
    assert "no rule with an edge" in on_tickets(client, "premium", status=422)["message"]
    refused = on_tickets(client, "is_call", "premiun > 3", status=422)
    assert refused["message"].startswith("Rule 2 cannot be read")
    assert refused["nearest"][0] == "premium"
