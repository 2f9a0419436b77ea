"""Daily sums against a plain loop over tickets."""

import math

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.flow import KINDS, OPENING, SUMS, Told, day_sums

NAMES, CONTRACTS = 3, 5
ticket = st.tuples(
    st.integers(0, CONTRACTS - 1),
    st.sampled_from([-1, 0, 1]),
    st.integers(0, len(KINDS) - 1),
    st.integers(1, 40),
    st.sampled_from([0.0, 9_999.5, 10_000.0, 250.0, 70_000.0]),
    st.booleans(),
    st.integers(0, len(OPENING) - 1),
    st.sampled_from([math.nan, -300.0, 12.5]),
    st.booleans(),
)
OWNER = [0, 0, 1, 1, 1]
CALL = [True, False, True, True, False]


def plain(tickets) -> dict[str, list[float]]:
    out = {key: [0.0] * NAMES for key in SUMS}
    repeated: dict[int, int] = {}
    for contract, side, kind, contracts, premium, outside, opened, shares, leg in tickets:
        name, right = OWNER[contract], "call" if CALL[contract] else "put"

        def add(key, value, name=name):
            out[key][name] += value

        if not math.isnan(shares):
            add("net_shares", shares)
        if leg:
            add("package_premium", premium)
            continue
        add("tickets", 1)
        add(f"{right}_{ {1: 'ask', -1: 'bid', 0: 'mid'}[side] }_premium", premium)
        out[f"largest_{right}_premium"][name] = max(out[f"largest_{right}_premium"][name], premium)
        if KINDS[kind] == "sweep":
            add("sweep_premium", premium)
        if side > 0:
            add("ask_contracts", contracts)
            if right == "call" and outside:
                add("outside_call_premium", premium)
            if OPENING[opened] != "unknown":
                add(f"opening_{right}_premium", premium)
            if premium >= 10_000:
                repeated[contract] = repeated.get(contract, 0) + 1
                out["repeats"][name] = max(out["repeats"][name], repeated[contract])
        if side < 0:
            add("bid_contracts", contracts)
    return out


@given(st.lists(ticket, max_size=60))
def test_sums_are_those_of_a_plain_loop(tickets):
    columns = list(zip(*tickets, strict=True)) if tickets else [()] * 9
    contract = np.array(columns[0], np.int64)
    told = Told(
        name=np.array(OWNER)[contract],
        contract=contract,
        is_call=np.array(CALL)[contract],
        side=np.array(columns[1], np.int8),
        kind=np.array(columns[2], np.int8),
        contracts=np.array(columns[3], np.int64),
        premium=np.array(columns[4], np.float64),
        outside=np.array(columns[5], np.bool_),
        opening=np.array(columns[6], np.int8),
        shares=np.array(columns[7], np.float64),
        leg=np.array(columns[8], np.bool_),
    )
    found, expected = day_sums(told, NAMES, CONTRACTS), plain(tickets)
    assert list(found) == list(SUMS)
    for key in SUMS:
        np.testing.assert_allclose(found[key], expected[key], err_msg=key)
