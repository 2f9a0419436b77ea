"""Listed contracts through the sessions: strikes come, get finer and stay; trades open and close no more than they are."""

import datetime as dt

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from flinch.feeds.simulated.interest import Expiries, Fitted, _carried, _listing, _row, _trade
from flinch.feeds.simulated.storylines import PlantedInterest

SHARE, MOST = np.array([0.025]), np.array([13])


def expiries(*days: str, on: str = "2026-09-01") -> Expiries:
    listed = np.array(days, dtype="datetime64[D]")
    years = (listed - np.datetime64(on)).astype(float) / 365
    return Expiries(np.zeros(listed.size, dtype=np.int64), listed, years, np.full(listed.size, 0.3))


def strikes(listed, place: int = 0) -> list[float]:
    return (listed.step[place] * np.arange(listed.low[place], listed.high[place] + 1)).tolist()


def test_a_new_expiration_gets_round_strikes_around_the_price():
    listed = _listing(None, expiries("2026-10-16"), np.array([101.0]), SHARE, MOST)
    assert listed.step[0] == 2.5
    assert min(strikes(listed)) < 80
    assert max(strikes(listed)) > 122
    assert all(strike % 2.5 == 0 for strike in strikes(listed))


def test_strikes_stay_and_follow_the_price():
    first = _listing(None, expiries("2026-10-16"), np.array([100.0]), SHARE, MOST)
    higher = _listing(first, expiries("2026-10-16", on="2026-09-10"), np.array([122.5]), SHARE, MOST)
    assert set(strikes(first)) <= set(strikes(higher))
    assert max(strikes(higher)) > 135
    same = _listing(first, expiries("2026-10-16", on="2026-09-02"), np.array([100.0]), SHARE, MOST)
    assert strikes(same) == strikes(first)


def test_a_fallen_name_gets_finer_strikes_between_the_old_ones():
    first = _listing(None, expiries("2026-11-20"), np.array([200.0]), SHARE, MOST)
    assert first.step[0] == 5
    fallen = _listing(first, expiries("2026-11-20", on="2026-09-20"), np.array([100.0]), SHARE, MOST)
    assert fallen.step[0] == 2.5
    assert set(strikes(first)) <= set(strikes(fallen))
    held = np.arange(1.0, first.strikes.sum() + 1)
    carried = dict(zip(strikes(fallen), _carried(first, fallen, held)[0], strict=True))
    assert {k: v for k, v in carried.items() if not np.isnan(v)} == dict(zip(strikes(first), held, strict=True))


def test_what_expires_is_gone_and_what_is_new_has_nothing():
    first = _listing(None, expiries("2026-09-04", "2026-10-16"), np.array([100.0]), SHARE, MOST)
    later = _listing(first, expiries("2026-10-16", "2026-11-20", on="2026-09-08"), np.array([100.0]), SHARE, MOST)
    held = np.concatenate([np.full(first.strikes[0], 7.0), np.full(first.strikes[1], 9.0)])
    carried = _carried(first, later, held)[0]
    assert np.nansum(carried) == 9 * first.strikes[1], "the seven expired"
    assert np.isnan(carried[later.strikes[0] :]).all(), "nobody holds the new expiration"


@given(st.integers(0, 1000), st.floats(0.01, 500), st.floats(1, 5000))
def test_trades_open_and_close_no_more_than_they_are(seed, mean, usual):
    rng = np.random.default_rng(seed)
    size = 200
    now = np.floor(rng.uniform(0, 2 * usual, size))
    volume, moved = np.empty(size), np.empty(size)
    _trade(*rng.random((2, size)), np.full(size, mean), now, np.full(size, usual), volume, moved)
    assert (volume >= 0).all()
    assert np.array_equal(volume, np.floor(volume))
    assert (np.abs(moved) <= volume).all()
    assert (now + moved >= 0).all()


def test_volume_has_its_mean_and_interest_is_drawn_to_what_is_usual():
    rng = np.random.default_rng(3)
    size = 200_000
    volume, moved = np.empty(size), np.empty(size)
    for now, sign in ((500.0, 1), (2000.0, -1)):
        _trade(*rng.random((2, size)), np.full(size, 20.0), np.full(size, now), np.full(size, 1000.0), volume, moved)
        assert volume.mean() == pytest.approx(20, rel=0.03)
        assert volume.std() > 15, "bursts, not a steady trickle"
        assert sign * moved.mean() > 1
    _trade(*rng.random((2, size)), np.zeros(size), np.full(size, 5.0), np.full(size, 5.0), volume, moved)
    assert volume.sum() == np.abs(moved).sum() == 0, "nothing is expected, nothing trades"


def test_a_planted_contract_is_the_listed_one_nearest_to_it():
    listed = _listing(None, expiries("2026-10-16"), np.array([100.0]), SHARE, MOST)
    terms = {"first": -3, "last": -1, "right": "put", "expiration": "2026-10-16", "strike": 105.0, "contracts": 100}
    ladder = np.unique(strikes(listed))
    for wanted, expected in (
        ({}, 105.0),
        ({"strike": 106.0}, 105.0),
        ({"strike": 900.0}, ladder[-1]),
        ({"expiration": "2026-10-17"}, 105.0),
    ):
        fitted: Fitted = {}
        side, row = _row(listed, 0, PlantedInterest(**terms | wanted), fitted)
        assert (side, strikes(listed)[row]) == (1, expected)
        assert list(fitted.values()) == [(dt.date(2026, 10, 16), expected)]


@given(st.lists(st.floats(60, 140), min_size=2, max_size=4, unique_by=round))
def test_contracts_that_are_apart_stay_apart_and_in_their_order(wanted):
    """Each has one of its own; a roll down stays a roll down whichever strikes there are."""
    listed = _listing(None, expiries("2026-10-16"), np.array([100.0]), SHARE, MOST)
    terms = {"first": -3, "last": -1, "right": "put", "expiration": "2026-10-16", "contracts": 100}
    ladder = np.unique(strikes(listed))
    middle = ladder[len(wanted) : -len(wanted)]
    wanted = [float(np.clip(one, middle[0], middle[-1])) for one in wanted]
    assume(len(set(wanted)) == len(wanted))
    fitted: Fitted = {}
    rows = [_row(listed, 0, PlantedInterest(**terms | {"strike": one}), fitted)[1] for one in wanted]
    found = np.array(strikes(listed))[rows]
    assert len(set(rows)) == len(rows)
    # A third one between two neighbours has no place there.
    assert np.array_equal(np.argsort(found[:2]), np.argsort(wanted[:2]))
    assert fitted == {
        (0, dt.date(2026, 10, 16), one): (dt.date(2026, 10, 16), at) for one, at in zip(wanted, found, strict=True)
    }
