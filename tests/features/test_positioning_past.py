"""Positioning in the past: a screen as of a session sees that session's exposure, and only what was known then."""

from __future__ import annotations

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine

from flinch.market import PLAIN, View
from flinch.store.market.chain import read_chain, read_spots
from flinch.store.market.surfaces import read_expiries

AS_OF = "2026-06-15"
COLUMNS = [
    "price",
    "net_exposure",
    "call_put_exposure",
    "flip_distance",
    "net_exposure_change_5",
    "net_exposure_change",
]


@pytest.fixture
def screen(client: FlaskClient):
    def run(*rules: str, columns: list[str] = COLUMNS, as_of: str | None = AS_OF, universe: str = "stock") -> dict:
        stack = {"universe": universe, "rules": [{"text": rule} for rule in rules]}
        answer = client.post("/api/screen", json={"stack": stack, "columns": columns, "as_of": as_of})
        assert answer.status_code == 200, answer.text
        found = answer.json
        return found | {
            column["key"]: np.array([np.nan if v is None else v for v in column["numbers"]])
            for column in found["columns"]
        }

    return run


def test_a_screen_as_of_a_session_reads_that_sessions_exposure(screen, client: FlaskClient):
    found = screen("call_put_exposure >= 1.2", "net_exposure_change_5 > 0")
    assert len(found["symbols"]) > 20
    assert (found["call_put_exposure"] >= 1.2).all()
    assert (found["net_exposure_change_5"] > 0).all()
    for symbol, price, net in list(zip(found["symbols"], found["price"], found["net_exposure"], strict=True))[:5]:
        history = client.get(f"/api/dossier/positioning/{symbol}").json["history"]
        place = history["sessions"].index(AS_OF)
        assert history["close"][place] == pytest.approx(price)
        assert history["net"][place] == pytest.approx(net)


def test_what_is_kept_for_the_newest_session_only_is_missing_before_and_says_so(screen, market: View):
    found = screen("net_exposure != 0")
    assert np.isnan(found["net_exposure_change"]).all()
    node, session = PLAIN.read("net_exposure_change").node, market.last - 1
    reasons = set(market.at(session).reasons(node).values())
    assert reasons == {"snapshots within a session are kept for the newest one only"}
    assert np.isfinite(screen("net_exposure != 0", as_of=None)["net_exposure_change"]).mean() > 0.95


def test_todays_open_and_close_make_no_difference_to_yesterday(screen, market: View, engine: Engine):
    """Yesterday's figures are those of yesterday's chain at yesterday's price."""
    frame = market.frame
    close = [s for s in frame.snapshots if str(s.session) == "2026-09-08"][-1]
    found = screen("open_interest > 0", as_of="2026-09-08", columns=["price", "interest_above", "peak_interest_strike"])
    for symbol in ("KESEO", "VILNI", "BULVI"):
        place, key = found["symbols"].index(symbol), int(frame.ids[market.row(symbol)])
        spot = read_spots(engine, close.taken_at, key)
        assert spot.height == 1, "of this name alone"
        assert found["price"][place] == spot["price"][0]
        chain = read_chain(engine, key, close.taken_at)
        above = chain.filter(chain["strike"] > spot["price"][0])["open_interest"].sum()
        assert found["interest_above"][place] == above


def test_surfaces_of_an_earlier_moment_can_be_read_for_one_name(market: View, engine: Engine):
    frame = market.frame
    key, row = int(frame.ids[market.row("KESEO")]), market.row("KESEO")
    moment = frame.snapshots[-6].taken_at
    alone = read_expiries(engine, moment, frame.ids, key)
    assert set(alone) == {row}
    # By their words, since what is missing equals nothing.
    assert repr(alone[row]) == repr(read_expiries(engine, moment, frame.ids)[row])
    assert [e.expiration for e in alone[row]] != [] != alone[row][0].svi


@pytest.mark.parametrize("key", ["net_exposure", "flip", "roll_off_share", "interest_above_share", "largest_build"])
def test_a_metrics_history_ends_with_what_the_screen_shows(screen, market: View, client: FlaskClient, key: str):
    shown = screen("open_interest > 0", columns=[key], as_of=None)
    for symbol in ("KESEO", "DELKU", "STAKU"):
        asked = {"expression": key}
        line = client.get(f"/api/dossier/over-time/{symbol}", query_string=asked).json
        value = shown[key][shown["symbols"].index(symbol)]
        assert line["values"][-1] == (None if np.isnan(value) else pytest.approx(value))
