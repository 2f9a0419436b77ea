"""Bursts against a plain loop, and each bound on both sides."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.shelves import make_bursts

SECOND = 1_000_000_000


def plain(time, cents, *, name=None, within=SECOND):
    """Of each print its burst: the one joined last among those that it fits."""
    bursts, out = [], []
    for i, (t, price) in enumerate(zip(time, cents, strict=True)):
        owner = 0 if name is None else name[i]
        fits = [b for b in bursts if b["name"] == owner and t - b["last"] <= within and abs(price - b["price"]) <= 1]
        burst = max(fits, key=lambda b: b["joined"], default=None)
        if burst is None:
            burst = {"number": len(bursts), "name": owner}
            bursts.append(burst)
        burst |= {"last": t, "price": price, "joined": i}
        out.append(burst["number"])
    return out


prints = st.lists(st.tuples(st.integers(0, 6), st.integers(9_998, 10_003), st.integers(1, 500)), max_size=40)


@given(prints)
def test_bursts_are_those_of_a_plain_loop(rows):
    rows.sort(key=lambda row: row[0])
    time = np.array([300_000_000 * t for t, _, _ in rows], np.int64)
    cents, shares = np.array([c for _, c, _ in rows], np.int64), np.array([s for _, _, s in rows], np.int64)
    bursts, of_print = make_bursts(time, cents / 100, shares)
    assert of_print.tolist() == plain(time.tolist(), cents.tolist())
    for burst in range(bursts.first.size):
        mine = of_print == burst
        assert (bursts.first[burst], bursts.last[burst]) == (time[mine].min(), time[mine].max())
        assert (bursts.shares[burst], bursts.prints[burst]) == (shares[mine].sum(), mine.sum())
        assert bursts.notional[burst] == pytest.approx((cents[mine] * shares[mine]).sum() / 100)
        assert bursts.price[burst] == pytest.approx(np.average(cents[mine] / 100, weights=shares[mine]))


@given(prints, st.integers(0, 40))
def test_bursts_of_several_names_are_those_of_each(rows, cut):
    first, second = (sorted(part, key=lambda row: row[0]) for part in (rows[:cut], rows[cut:]))
    rows = first + second
    name = np.array([0] * len(first) + [3] * len(second), np.int64)
    time = np.array([300_000_000 * t for t, _, _ in rows], np.int64)
    cents = np.array([c for _, c, _ in rows], np.int64)
    _, of_print = make_bursts(time, cents / 100, np.ones(len(rows), np.int64), name=name)
    assert of_print.tolist() == plain(time.tolist(), cents.tolist(), name=name.tolist())


@pytest.mark.parametrize(
    ("later", "cents", "together"),
    [(SECOND, 0, True), (SECOND + 1, 0, False), (0, 1, True), (0, -1, True), (0, 2, False), (SECOND, -1, True)],
)
def test_a_second_and_a_tick_are_the_bounds(later, cents, together):
    price = np.array([20.10, round(20.10 + cents / 100, 2)])
    bursts, _ = make_bursts(np.array([5, 5 + later]), price, np.array([100, 200]))
    assert bursts.first.size == (1 if together else 2)


def test_four_prints_in_a_second_are_one_of_all_their_shares():
    time = np.array([0, 200, 450, 900]) * 1_000_000
    bursts, _ = make_bursts(time, np.array([50.0, 50.0, 50.01, 50.0]), np.array([4000, 1000, 2000, 3000]))
    assert (bursts.shares.tolist(), bursts.prints.tolist()) == ([10_000], [4])
    assert bursts.notional[0] == pytest.approx(500_020)
    assert bursts.price[0] == pytest.approx(50.002)


def test_what_is_out_of_order_or_of_another_length_is_refused():
    one = np.ones(2, np.int64)
    with pytest.raises(ValueError, match="order of time"):
        make_bursts(np.array([2, 1]), np.ones(2), one)
    with pytest.raises(ValueError, match="order of time"):
        make_bursts(np.array([1, 2]), np.ones(2), one, name=np.array([1, 0]))
    with pytest.raises(ValueError, match="same length"):
        make_bursts(np.array([1, 2]), np.ones(3), one)
    make_bursts(np.array([2, 1]), np.ones(2), one, name=np.array([0, 1]))
    empty, of_print = make_bursts(np.empty(0, np.int64), np.empty(0), np.empty(0, np.int64))
    assert empty.first.size == of_print.size == 0
