"""Tickets added up by group, against a plain loop."""

import math

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.flow import SIDES, group_tickets, place_of_highest

ticket = st.tuples(
    st.integers(0, 3), st.booleans(), st.integers(0, 2), st.sampled_from([1.0, 2.5, 2.5, 70.0]), st.integers(1, 9)
)


@given(st.lists(ticket, max_size=40))
def test_groups_are_those_of_a_plain_loop(tickets):
    columns = list(zip(*tickets, strict=True)) if tickets else [()] * 5
    kinds = (np.int64, np.bool_, np.int8, np.float64, np.int64)
    group, is_call, side, premium, contracts = (np.array(c, k) for c, k in zip(columns, kinds, strict=True))
    found = group_tickets(group, 4, is_call, side, premium, contracts)
    for g in range(4):
        mine = [(i, t) for i, t in enumerate(tickets) if t[0] == g]
        for right, sums in ((True, found.call), (False, found.put)):
            for s in range(3):
                assert sums[g, s] == sum(t[3] for _, t in mine if t[1] == right and t[2] == s)
        assert found.premium[g] == sum(t[3] for _, t in mine)
        assert found.tickets[g] == len(mine)
        assert found.contracts[g].tolist() == [sum(t[4] for _, t in mine if t[2] == s) for s in range(3)]
        largest = max((t[3] for _, t in mine), default=None)
        assert found.largest[g] == (-1 if largest is None else next(i for i, t in mine if t[3] == largest))
        bid, ask = (sum(t[4] for _, t in mine if SIDES[t[2]] == word) for word in ("bid", "ask"))
        share = found.ask_share[g]
        assert math.isnan(share) if bid + ask == 0 else share == ask / (bid + ask)


@given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 3)), max_size=30))
def test_the_highest_of_each_group_is_the_first_of_several_and_above_zero(rows):
    group, values = np.array([g for g, _ in rows], np.int32), np.array([v for _, v in rows], np.float32)
    found = place_of_highest(group, 5, values)
    for g in range(5):
        mine = [(value, -place) for place, (owner, value) in enumerate(rows) if owner == g and value > 0]
        assert found[g] == (-max(mine)[1] if mine else -1)
