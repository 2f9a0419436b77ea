"""Open interest: contracts first, small bases marked, what was listed or expired in between, amounts that pair."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.gamma import by_strike, interest_change, likely_spreads, put_call_ratio


def test_contracts_first_and_a_percentage_on_two_is_marked():
    found = interest_change(np.array([50.0, 10_000, 30, 0, 120]), np.array([2.0, 400, np.nan, 150, 0]))
    assert found.contracts.tolist() == [48, 9600, 30, -150, 120]
    assert found.percent[:2].tolist() == [24, 24], "2,400 percent both"
    assert found.small_base.tolist() == [True, False, True, False, True]
    assert np.isnan(found.percent[[2, 4]]).all(), "no percentage of nothing"
    assert found.percent[3] == -1


def test_put_call_ratio_needs_calls():
    assert put_call_ratio(np.array([30.0, 5.0, 0.0]), np.array([60.0, 0.0, 9.0])).tolist()[::2] == [0.5, 0.0]
    assert np.isnan(put_call_ratio(np.array([5.0]), np.array([0.0])))[0]


def test_peak_and_concentration_by_hand():
    name = np.array([0, 0, 0, 0, 2])
    strike = np.array([50.0, 40.0, 50.0, 45.0, 10.0])
    holding, other = by_strike(name, strike, [np.array([10.0, 5, 20, np.nan, 7]), np.array([0.0, 1, 0, 1, 0])], 3)
    assert holding.peak.tolist()[::2] == [50, 10], "expirations add up at a strike"
    assert holding.top_share[0] == 1
    assert np.isnan(holding.peak[1]), "a name without contracts"
    assert other.peak[0] == 40, "the lower of two equal ones"
    assert np.isnan(other.peak[2]), "nothing is open"


@given(st.integers(0, 1000))
def test_the_top_five_hold_what_sorting_says(seed):
    rng = np.random.default_rng(seed)
    strike, amount = rng.integers(1, 12, 60).astype(float), rng.integers(0, 100, 60).astype(float)
    found = by_strike(np.zeros(60, dtype=np.int64), strike, [amount], 1)[0]
    totals = np.bincount(strike.astype(int), amount)
    assert found.top_share[0] == pytest.approx(np.sort(totals)[-5:].sum() / totals.sum())
    assert totals[int(found.peak[0])] == totals.max()


def test_equal_amounts_at_two_strikes_are_one_pair_at_most():
    expiry = np.array([1, 1, 1, 2, 1, 1])
    strike = np.array([100.0, 110, 120, 110, 90, 95])
    is_call = np.array([True, True, True, True, False, True])
    opened = np.array([3000.0, 3000, 3010, 3000, 3000, 80])
    pairs = likely_spreads(expiry, strike, is_call, opened)
    assert [(strike[p.lower], strike[p.upper], p.contracts) for p in pairs] == [(100, 110, 3000)]
    assert likely_spreads(expiry, strike, is_call, np.where(opened < 100, 60.0, np.nan)) == [], "too few to look at"
    apart = likely_spreads(np.array([1, 1]), np.array([1.0, 2.0]), np.array([True, True]), np.array([1000.0, 1011.0]))
    assert apart == [], "more than one percent apart"


@st.composite
def chains(draw):
    """Contracts of a few expirations and strikes, each at most once, and what was opened in each."""
    keys = draw(
        st.lists(st.tuples(st.integers(1, 3), st.integers(1, 6), st.booleans()), min_size=2, max_size=14, unique=True)
    )
    opened = draw(
        st.lists(
            st.sampled_from([np.nan, -500.0, 0.0, 99.0, 100.0, 101.0, 250.0, 251.0, 254.0, 5000.0, 5040.0]),
            min_size=len(keys),
            max_size=len(keys),
        )
    )
    expiry, strike, is_call = (np.array(column) for column in zip(*keys, strict=True))
    return expiry, strike.astype(float), is_call, np.array(opened)


@given(chains())
def test_whatever_pairs_is_one_expiry_and_right_of_one_size_and_stands_in_one_pair(chain):
    expiry, strike, is_call, opened = chain
    pairs = likely_spreads(expiry, strike, is_call, opened)
    used = [row for pair in pairs for row in (pair.lower, pair.upper)]
    assert len(set(used)) == len(used)
    assert [p.contracts for p in pairs] == sorted((p.contracts for p in pairs), reverse=True)
    for lower, upper, contracts in pairs:
        assert (expiry[lower], is_call[lower]) == (expiry[upper], is_call[upper])
        assert strike[lower] < strike[upper]
        assert contracts == min(opened[lower], opened[upper]) >= 100
        assert abs(opened[lower] - opened[upper]) <= 0.01 * max(opened[lower], opened[upper])


@given(chains())
def test_no_two_of_one_size_are_left_without_a_pair(chain):
    expiry, strike, is_call, opened = chain
    used = {row for pair in likely_spreads(expiry, strike, is_call, opened) for row in (pair.lower, pair.upper)}
    alone = [row for row in np.flatnonzero(np.nan_to_num(opened) >= 100) if row not in used]
    for place, a in enumerate(alone):
        for b in alone[place + 1 :]:
            same = (expiry[a], is_call[a]) == (expiry[b], is_call[b])
            assert not same or abs(opened[a] - opened[b]) > 0.01 * max(opened[a], opened[b])


@given(chains(), st.randoms(use_true_random=False))
def test_the_order_of_the_contracts_makes_no_other_pairs(chain, shuffle):
    expiry, strike, is_call, opened = chain

    def sizes(order: np.ndarray) -> list[float]:
        given = (values[order] for values in (expiry, strike, is_call, opened))
        return [pair.contracts for pair in likely_spreads(*given)]

    order = list(range(strike.size))
    shuffle.shuffle(order)
    assert sum(sizes(np.array(order))) == pytest.approx(sum(sizes(np.arange(strike.size))), rel=0.011)


whole_numbers = st.lists(st.one_of(st.integers(0, 100_000).map(float), st.just(np.nan)), min_size=6, max_size=6)


@given(whole_numbers, whole_numbers)
def test_changes_add_up_and_turn_round(now, before):
    now, before = np.array(now), np.array(before)
    change = interest_change(now, before)
    known = np.isfinite(now)
    assert change.contracts[known].sum() == now[known].sum() - np.nan_to_num(before)[known].sum()
    assert np.isnan(change.contracts[~known]).all(), "what is not known now has not changed by as much as it was"
    back = interest_change(before, now)
    both = known & np.isfinite(before)
    assert np.array_equal(back.contracts[both], -change.contracts[both])
    marked = np.isfinite(change.percent)
    assert np.allclose(change.percent[marked] * before[marked], change.contracts[marked])
    assert np.array_equal(change.small_base, np.nan_to_num(before) < 100)
