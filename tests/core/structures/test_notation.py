"""Legs as a text, and the kinds that legs make."""

import datetime as dt

import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.structures import STRUCTURES, BadLegs, PlainLeg, PlainLegs, leg_words, read_legs, recognise, write_legs

LEG = st.builds(
    PlainLeg,
    st.integers(-1000, 1000).filter(bool),
    st.booleans(),
    st.integers(1, 400_000).map(lambda cents: cents / 100),
    st.dates(dt.date(2000, 1, 1), dt.date(2099, 12, 31)),
)


@given(st.lists(LEG, min_size=1, max_size=8), st.integers(-5_000, 5_000))
def test_what_is_written_is_read_again(options, shares):
    legs = PlainLegs(options, shares)
    assert read_legs(write_legs(legs)) == legs


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("", 1, "cannot be read"),
        ("+1P95@2026-10-16, +1X90@2026-10-16", 19, "cannot be read"),
        ("+1P95@2026-10-16,+0C90@2026-10-16", 18, "quantity of zero"),
        ("+1P0@2026-10-16", 1, "strike of zero"),
        ("+1P95@2026-13-16", 1, "no day 2026-13-16"),
        ("1001C95@2026-10-16", 1, "more than 1000"),
        ("+0S", 1, "needs a leg"),
    ],
)
def test_a_text_that_is_no_legs_is_told_where(text, place, words):
    with pytest.raises(BadLegs, match=words) as error:
        read_legs(text)
    assert error.value.where == str(place)


def test_legs_are_said_as_a_trader_says_them():
    day, later = dt.date(2026, 10, 16), dt.date(2026, 11, 20)
    one = PlainLegs([PlainLeg(1, False, 90, day), PlainLeg(-2, False, 95.5, day)], 0)
    assert leg_words(one) == "+90 P −2 95.5 P · 16 Oct"
    two = PlainLegs([PlainLeg(-1, True, 100, day), PlainLeg(1, True, 100, later)], 100)
    assert leg_words(two) == "+100 shares −100 C 16 Oct +100 C 20 Nov"


STRIKES = {
    "single": [100], "pair": [95, 100], "same": [100, 100], "two": [95, 105], "condor": [85, 90, 110, 115],
    "body": [90, 100, 100, 110], "fly": [95, 100, 105], "wide fly": [95, 100, 110], "calendar": [100, 100], "diagonal": [95, 100],
}  # fmt: skip


@pytest.mark.parametrize("key", STRUCTURES)
@pytest.mark.parametrize("units", [1, 3])
def test_every_kind_is_known_by_its_legs_in_any_order(key, units):
    kind = STRUCTURES[key]
    legs = list(zip(kind.legs, STRIKES[kind.shape], strict=True))
    for order in (legs, legs[::-1]):
        found = recognise(
            [units * leg.quantity for leg, _ in order],
            [leg.is_call for leg, _ in order],
            [strike for _, strike in order],
            [leg.later for leg, _ in order],
            units * kind.shares,
        )
        assert found is not None
        assert (found.kind.key, found.units) == (key, units)


def test_what_has_no_name_here_has_none():
    assert recognise([-1], [True], [100.0], [False], 0) is None
    assert recognise([1, -1], [True, True], [100.0, 100.0], [False, False], 0) is None
    assert recognise([1, -1, 1], [True, True, True], [90.0, 100.0, 110.0], [False] * 3, 0) is None
    assert recognise([], [], [], [], 1) is None
    # A put credit vertical with shares beside it is something else.
    assert recognise([1, -1], [False, False], [90.0, 95.0], [False, False], 1) is None


@pytest.mark.parametrize("strike", [95.0, 0.5, 12345.625, 1_000_000.0, 1234567.0, 2.5001, 9999999.0])
def test_no_strike_loses_a_digit(strike: float):
    legs = PlainLegs([PlainLeg(-3, True, strike, dt.date(2026, 10, 16))], -999_999)
    assert read_legs(write_legs(legs)) == legs


def test_shares_are_bounded_after_they_are_added_up():
    assert read_legs("999998S,1S").shares == 999_999
    for text in ("999999S,1S", "-999999S,-1S"):
        with pytest.raises(BadLegs, match="999,999 shares at most"):
            read_legs(text)
