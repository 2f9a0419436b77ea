"""Levels and positions against brute force."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.shelves import (
    ABOVE,
    BELOW,
    NONE,
    NONE_LARGE,
    WITHIN,
    book_levels,
    make_book,
    make_levels,
    print_position,
    stand,
)

burst = st.tuples(st.integers(0, 2), st.integers(995, 1005), st.integers(0, 5), st.integers(1, 9))


def test_two_prints_of_one_price_are_large_enough_together():
    price, notional = np.array([20.0, 21.0, 20.0]), np.array([3e6, 4e6, 2e6])
    levels = make_levels(price, notional, np.array([150, 190, 100]), least=5e6)
    assert (levels.price.tolist(), levels.notional.tolist(), levels.bursts.tolist()) == ([20.0], [5e6], [2])
    assert make_levels(price, notional, np.array([150, 190, 100]), least=5e6 + 1).price.size == 0
    assert make_levels(price, notional, np.array([150, 190, 100]), least_shares=250).price.tolist() == [20.0]


@pytest.mark.parametrize(
    ("price", "levels", "expected"),
    [
        (10.0, [9.0, 8.0], ABOVE), (10.0, [11.0], BELOW), (10.0, [9.0, 11.0], WITHIN), (10.0, [10.0], WITHIN),
        (10.0, [10.0, 9.0], WITHIN), (10.0, [], NONE),
    ],
)  # fmt: skip
def test_positions_by_hand(price, levels, expected):
    assert print_position(price, np.array(levels)) == expected


@given(
    st.lists(burst, max_size=40), st.lists(st.integers(994, 1006) | st.just(0), min_size=3, max_size=3),
    st.integers(0, 5), st.integers(0, 5), st.integers(0, 30), st.integers(0, 4),
)  # fmt: skip
def test_every_name_stands_where_its_own_levels_say(rows, cents, first, last, least, lots):
    name, tick, session, shares = (np.array([row[i] for row in rows], np.int64) for i in range(4))
    price = np.array([np.nan if c == 0 else c / 100 for c in cents])
    notional = tick * shares / 1000.0
    book = make_book(name, tick / 100, session, notional, shares, 3)
    found = stand(book, price, first, last, least=least, least_shares=lots)
    for n in range(3):
        mine = (name == n) & (session >= first) & (session <= last)
        levels = make_levels(tick[mine] / 100, notional[mine], shares[mine], least=least - 1e-4, least_shares=lots)
        assert found.notional[n] == pytest.approx(notional[mine].sum(), rel=1e-5)
        assert found.shares[n] == shares[mine].sum()
        assert found.levels[n] == levels.price.size
        read = book_levels(book, n, first, last, least=least - 1e-4, least_shares=lots)
        np.testing.assert_allclose(read.price, levels.price)
        np.testing.assert_allclose(read.notional, levels.notional, rtol=1e-6)
        np.testing.assert_array_equal(read.shares, levels.shares)
        np.testing.assert_array_equal(read.bursts, levels.bursts)
        at = levels.price.round(2)
        if not mine.any() or np.isnan(price[n]):
            assert found.position[n] == NONE
        else:
            assert found.position[n] == (print_position(price[n], at) if at.size else NONE_LARGE)
        if np.isnan(price[n]):
            continue
        above, below = at[at >= price[n]], at[at <= price[n]]
        assert found.above[n] == pytest.approx(above.min()) if above.size else np.isnan(found.above[n])
        assert found.below[n] == pytest.approx(below.max()) if below.size else np.isnan(found.below[n])
        if at.size:
            assert found.largest_notional[n] == pytest.approx(levels.notional.max(), rel=1e-5)
            assert found.largest[n] == pytest.approx(at[levels.notional.argmax()])


def test_a_price_at_its_only_level_stands_within_and_beside_it_not():
    """To the tick, and a whole tick to either side."""
    name, session = np.zeros(1, np.int64), np.zeros(1, np.int64)
    book = make_book(name, np.array([50.0]), session, np.array([1e6]), np.array([20_000]), 1)
    where = [int(stand(book, np.array([price]), 0, 0).position[0]) for price in (49.99, 50.0, 50.01)]
    assert where == [BELOW, WITHIN, ABOVE]
    at = stand(book, np.array([50.0]), 0, 0)
    assert (at.above[0], at.below[0]) == pytest.approx((50.0, 50.0))
