"""Small tables within one value: what went in comes out, and what would lose something is refused."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.store.market.chain import CONTRACT
from flinch.store.packing import (
    can_be_packed,
    pack,
    pack_groups,
    packed_prices,
    unpack,
    unpack_groups,
    unpacked_prices,
)


@given(st.binary(max_size=40 * CONTRACT.itemsize))
def test_any_records_come_back_as_they_were(raw: bytes):
    records = np.frombuffer(raw[: len(raw) // CONTRACT.itemsize * CONTRACT.itemsize], CONTRACT)
    assert unpack(CONTRACT, pack(records)).tobytes() == records.tobytes()


def test_groups_are_told_apart_and_come_back_in_their_order():
    layout = np.dtype([("value", "<i8"), ("side", "u1")])
    records = np.zeros(6, layout)
    records["value"] = [5, 6, 7, 8, 9, 10]
    owners, packed = pack_groups(np.array([2, 2, 5, 7, 7, 7]), records)
    assert owners.tolist() == [2, 5, 7]
    place, again = unpack_groups(layout, [packed[2], packed[0]])
    assert place.tolist() == [0, 0, 0, 1, 1]
    assert again["value"].tolist() == [8, 9, 10, 5, 6]
    assert pack_groups(np.empty(0, np.int64), records[:0])[1] == []
    assert unpack_groups(layout, [])[1].size == 0


def test_bytes_of_another_layout_are_refused():
    with pytest.raises(ValueError, match="reshape"):
        unpack(np.dtype([("value", "<i8")]), pack(np.zeros(3, np.dtype([("value", "<i4")]))))


@given(st.lists(st.integers(0, 10**11), min_size=1))
def test_a_price_of_at_most_four_decimals_comes_back_to_the_last_bit(whole: list[int]):
    prices = np.array([n / 10_000 for n in whole])
    assert np.array_equal(unpacked_prices(packed_prices(prices)), prices)


def test_a_missing_price_stays_missing_and_nothing_stays_nothing():
    assert packed_prices(np.array([np.nan, 0.0])).tolist() == [-1, 0]
    assert np.array_equal(unpacked_prices(np.array([-1, 0])), [np.nan, 0.0], equal_nan=True)


@given(st.lists(st.integers(0, 10**13), min_size=1))
def test_a_price_of_eight_decimals_comes_back_too(whole: list[int]):
    prices = np.array([n / 100_000_000 for n in whole])
    assert can_be_packed(prices).all()
    assert np.array_equal(unpacked_prices(packed_prices(prices)), prices)


def test_what_arithmetic_leaves_behind_a_price_is_no_decimal():
    assert packed_prices(np.array([0.1 + 0.2, 12.340000000000002])).tolist() == [3000, 123400]


@pytest.mark.parametrize(("price", "words"), [(-0.01, "not be negative"), (1.0000000013, "at most eight decimals")])
def test_a_price_that_would_be_rounded_is_refused(price: float, words: str):
    assert can_be_packed(np.array([1.0, price, np.nan])).tolist() == [True, False, True]
    with pytest.raises(ValueError, match=words):
        packed_prices(np.array([1.0, price]))
