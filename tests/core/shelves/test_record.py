"""Whether shelves are better than chance: by hand, on nothing, and on something."""

import numpy as np
import pytest

from flinch.core.shelves import LEAST_SESSIONS, compare_holding


def drawn(rng, share, names=80, sessions=40, each=2.0, together=0.0):
    """Tests of names and sessions, of which a share holds; `together` makes all names of a session hold more or less often."""
    decided = rng.poisson(each, (names, sessions)).astype(float)
    chance = np.clip(share + together * rng.normal(size=(1, sessions)), 0.02, 0.98)
    return rng.binomial(decided.astype(int), np.broadcast_to(chance, decided.shape)).astype(float), decided


def test_shares_and_counts_by_hand():
    held, decided = np.array([[1.0, 0.0], [2.0, 0.0]]), np.array([[2.0, 0.0], [3.0, 1.0]])
    found = compare_holding(held, decided, np.array([[1.0, 1.0]] * 2), np.array([[4.0, 1.0]] * 2))
    assert (found.held, found.placebo) == (0.5, 0.4)
    assert found.difference == pytest.approx(0.1)
    assert (found.tests, found.placebo_tests, found.sessions) == (6, 10, 2)
    assert found.verdict == "too few"


def test_without_tests_nothing_is_known():
    none, some = np.zeros((3, 4)), np.ones((3, 4))
    for columns in ((none, none, some, some), (some, some, none, none)):
        found = compare_holding(*columns)
        assert np.isnan(found.difference)
        assert found.verdict == "too few"


def test_thirty_sessions_are_enough():
    rng = np.random.default_rng(2)
    for sessions, verdict in ((LEAST_SESSIONS - 1, "too few"), (LEAST_SESSIONS, "above")):
        real = drawn(rng, 0.9, sessions=sessions, each=4)
        assert compare_holding(*real, *drawn(rng, 0.4, sessions=sessions, each=4)).verdict == verdict
        assert compare_holding(*drawn(rng, 0.4, sessions=30), *drawn(rng, 0.9, sessions=30)).verdict == "below"


@pytest.mark.parametrize("together", [0.0, 0.15])
def test_where_there_is_nothing_a_claim_is_rare(together):
    """Also when all names of a session hold or break together: in about one of twenty."""
    rng = np.random.default_rng(4)
    claims = [
        compare_holding(*drawn(rng, 0.65, together=together), *drawn(rng, 0.65, together=together)).verdict != "none"
        for _ in range(200)
    ]
    assert np.mean(claims) < 0.1


def test_what_is_there_is_found():
    rng = np.random.default_rng(5)
    found = compare_holding(*drawn(rng, 0.70), *drawn(rng, 0.63))
    assert found.verdict == "above"
    assert found.low < 0.07 < found.high


def test_several_looks_want_a_wider_interval():
    rng = np.random.default_rng(6)
    columns = (*drawn(rng, 0.66), *drawn(rng, 0.63))
    one, five = compare_holding(*columns), compare_holding(*columns, looks=5)
    assert one.difference == five.difference
    # 99 % in place of 95 %: 2.576 deviations for 1.960.
    assert (five.high - five.low) / (one.high - one.low) == pytest.approx(2.575829 / 1.959964, rel=1e-5)
    claims = [
        any(compare_holding(*drawn(rng, 0.65), *drawn(rng, 0.65), looks=5).verdict != "none" for _ in range(5))
        for _ in range(60)
    ]
    assert np.mean(claims) < 0.15
