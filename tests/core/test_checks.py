"""Jumps that a split would explain, strikes that are of other shares, and quotes that parity forbids."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.checks import RATIOS, parity_broken, split_jumps, strikes_apart

FLAT = np.full((1, 6), 100.0)


def test_a_split_and_a_reverse_split_are_found_on_their_day_with_their_ratio():
    close = np.concatenate([FLAT, FLAT])
    close[0, :3] *= 4  # four for one before the fourth session
    close[1, :2] /= 10  # one for ten before the third
    jumps = split_jumps(close * 1.01, close)
    assert jumps.name.tolist() == [0, 1]
    assert jumps.session.tolist() == [3, 2]
    assert jumps.ratio.tolist() == [4.0, 0.1]


def test_a_jump_over_sessions_without_a_bar_is_found_where_the_bars_go_on():
    close = FLAT.copy()
    close[0, :2] *= 2
    close[0, 2:4] = np.nan
    jumps = split_jumps(close, close)
    assert (jumps.session.tolist(), jumps.ratio.tolist()) == ([4], [2.0])


def test_moves_that_no_usual_split_makes_are_none():
    for factor in (1.0, 1.5, 1.8, 2.2, 0.55, 2 / 3, 60.0):
        close = FLAT.copy()
        close[0, :3] *= factor
        assert split_jumps(close, close).name.size == 0, factor
    assert split_jumps(np.full((1, 4), np.nan), np.full((1, 4), np.nan)).name.size == 0


@given(st.sampled_from(RATIOS.tolist()), st.floats(-0.04, 0.04), st.integers(1, 5))
def test_every_usual_ratio_is_found_within_five_percent(ratio: float, move: float, session: int):
    close = FLAT.copy()
    close[0, :session] *= ratio
    open_ = close.copy()
    open_[0, session] *= np.exp(move)
    jumps = split_jumps(open_, close)
    assert jumps.session.tolist()[0] == session
    assert jumps.ratio[0] == pytest.approx(ratio, rel=0.35 if ratio >= 25 or ratio <= 1 / 25 else 1e-12)


def test_strikes_of_ten_shares_are_told_and_wide_chains_are_not():
    spot = np.array([100.0, 100.0, 100.0, 100.0, np.nan, 3.0])
    strike = np.array([1000.0, 9.0, 180.0, 60.0, 100.0, 301.0])
    assert np.array_equal(strikes_apart(spot, strike), [10.0, 0.1, np.nan, np.nan, np.nan, 100.0], equal_nan=True)


STRIKES = np.arange(80.0, 125.0, 5.0)


def parity(shift: dict[int, float] | None = None, width: float = 0.2, strikes: np.ndarray = STRIKES) -> list[bool]:
    """Calls and puts around a forward of 101, at a discount of 0.99, some of them shifted."""
    gap = 0.99 * (101.0 - strikes)
    for place, by in (shift or {}).items():
        gap[place] += by
    whole = np.full(strikes.size, width)
    return parity_broken(
        np.zeros(strikes.size, np.int64), strikes, gap, whole, np.full(strikes.size, 100.0), np.full(strikes.size, 0.99)
    ).tolist()


def test_quotes_around_one_forward_keep_parity():
    assert not any(parity())


def test_a_strike_is_off_when_it_is_so_by_more_than_half_the_widths_and_a_quarter_percent():
    # At 100 (place 4) half of the widths is 0.1, a quarter percent of the price 0.25.
    assert not any(parity({4: 0.34}))
    assert [place for place, off in enumerate(parity({4: 0.36})) if off] == [4]
    assert [place for place, off in enumerate(parity({4: -0.36})) if off] == [4]
    assert not any(parity({4: 0.36}, width=0.3)), "wider quotes leave more open"


def test_of_strikes_far_from_the_price_and_of_few_nothing_is_said():
    assert not any(parity({0: 5.0, 8: 5.0})), "80 and 120 are a fifth away"
    assert [place for place, off in enumerate(parity({2: 5.0, 6: 5.0})) if off] == [2, 6], "90 and 110 are a tenth away"
    assert not any(parity({1: 5.0}, strikes=np.array([95.0, 100.0, 105.0, 110.0])))
    assert parity({1: 5.0}, strikes=np.array([92.5, 95.0, 100.0, 105.0, 110.0])) == [False, True, False, False, False]


def test_each_expiration_has_its_own_forward_and_what_is_missing_breaks_nothing():
    group = np.repeat([0, 1], STRIKES.size)
    gap = np.concatenate([101.0 - STRIKES, 95.0 - STRIKES])
    gap[3] = np.nan
    strikes, twice = np.tile(STRIKES, 2), np.ones(2 * STRIKES.size)
    assert not parity_broken(group, strikes, gap, 0.1 * twice, 100 * twice, twice).any()
    nothing = np.empty(0)
    assert parity_broken(np.empty(0, np.int64), nothing, nothing, nothing, nothing, nothing).size == 0
