"""How old data are, and what a moment changed."""

from __future__ import annotations

import dataclasses
import datetime as dt

import pytest

from flinch.clock import wall
from flinch.market import View, opened
from flinch.market.age import age_of, ages
from flinch.market.changes import EVERYTHING, changes
from flinch.store.market.run import Run

MINUTE = dt.timedelta(minutes=1)


@pytest.mark.parametrize(
    ("seconds", "age"),
    [(0, "fresh"), (120, "fresh"), (121, "late"), (299, "late"), (300, "stopped"), (9_000, "stopped")],
)
def test_fresh_is_up_to_twice_the_cadence_and_stopped_from_five_times_on(seconds: int, age: str):
    assert age_of(dt.timedelta(seconds=seconds), MINUTE) == age


def at(market: View, minutes: float, **changed: object) -> View:
    """The market so many minutes later."""
    state = market.frame.state
    moved = state._replace(as_of=state.as_of + minutes * MINUTE, data_version=state.data_version + 1)
    return opened(dataclasses.replace(market.frame, state=moved, **changed), market.store)  # type: ignore[arg-type]


def told(view: View, speed: int, behind: float = 0.0, silent: float = 0.0, until: dt.datetime | None = None) -> dict:
    now = wall()
    run = Run(speed, until, behind, now - dt.timedelta(seconds=silent))
    return {one.kind: one.age for one in ages(view, run, now)}


def test_a_kind_that_does_not_come_while_others_do_is_late(market: View):
    assert set(told(at(market, 0), 1).values()) == {"fresh"}
    assert told(at(market, 10), 1)["chains"] == "fresh"
    after = told(at(market, 11), 1)
    assert (after["chains"], after["minute_bars"]) == ("late", "fresh")
    # Chains of the session before are none of this one: since the open none came.
    frame = market.frame
    yesterday = [look for look in frame.snapshots if look.session < market.today]
    assert told(at(market, 0, snapshots=yesterday), 1)["chains"] == "stopped"


def test_what_a_source_is_behind_and_how_long_it_says_nothing_counts(market: View):
    assert told(market, 10, behind=120.0)["minute_bars"] == "fresh"
    assert told(market, 10, behind=121.0)["prints"] == "late"
    assert told(market, 60, silent=9.0)["minute_bars"] == "fresh", "a word that is on its way"
    assert told(market, 60, silent=11.0) == dict.fromkeys(("minute_bars", "option_trades", "prints"), "stopped") | {
        "chains": "late"
    }
    assert told(market, 1, silent=11.0)["minute_bars"] == "fresh", "two minutes have not gone by"
    # As fast as it can, it is late for nothing, unless it is gone.
    assert set(told(market, 0, behind=900.0, until=wall()).values()) == {"fresh"}
    assert set(told(market, 0, silent=11.0, until=wall()).values()) == {"stopped"}


def test_nothing_is_due_after_the_close_or_while_it_stands_still(market: View):
    assert set(told(at(market, 15), 1).values()) == {"closed"}
    assert set(told(market, 0).values()) == {"closed"}
    assert {one.age for one in ages(market, None, wall())} == {"closed"}


def test_a_moment_tells_which_kinds_came_and_of_whom(market: View):
    frame = market.frame
    close, daily = frame.close.copy(), dict(frame.daily)
    rows = [frame.index[symbol] for symbol in ("TARNO", "BELUA")]
    close[rows[0], -1] *= 1.01
    daily["call_ask_premium"] = daily["call_ask_premium"].copy()
    daily["call_ask_premium"][rows[1], -1] += 1.0
    found = changes(market, at(market, 1, close=close, daily=daily))
    assert found.kinds == ["minute_bars", "option_trades"]
    assert sorted(found.names or []) == ["BELUA", "TARNO"]
    version = market.data_version
    assert changes(market, at(market, 1)) == (version, [], [])
    fewer = at(market, 1, snapshots=frame.snapshots[:-1])
    assert changes(market, fewer).kinds == ["chains"], "another look, whatever it says"
    implied = {30: frame.implied[30].copy()}
    implied[30][rows[0], -1] = 0.5
    assert changes(market, at(market, 1, implied=frame.implied | implied)) == (version, ["chains"], ["TARNO"])
    after = dict(frame.daily)
    after["post_last"] = after["post_last"].copy()
    after["post_last"][rows[1], -1] = 1.0
    assert changes(market, at(market, 1, daily=after)) == (version, ["minute_bars"], ["BELUA"]), "in the evening too"
    # The past is another, or a session came.
    state = frame.state._replace(past_version=frame.state.past_version + 1)
    other = opened(dataclasses.replace(frame, state=state), market.store)
    everything = EVERYTHING._replace(before=version)
    assert changes(market, other) == everything
    assert changes(market.at(market.last - 1), market) == everything
