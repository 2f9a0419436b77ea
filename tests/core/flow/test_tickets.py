"""Tickets beside a plain loop over the fills, and every boundary on both sides of it."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.flow import KINDS, make_tickets, trade_side

SECOND = 1_000_000_000
MS = 1_000_000


def plain(time, contract, side, venue, price, contracts, multiplier=100.0):
    """The definition, one fill after the other: fills of each ticket with its kind, in order of the first fill."""
    runs: list[list[int]] = []
    newest: dict[tuple, list[int]] = {}
    for i in range(len(time)):
        key = (contract[i], side[i])
        if key in newest and time[i] - time[newest[key][-1]] <= 500 * MS:
            newest[key].append(i)
        else:
            newest[key] = [i]
            runs.append(newest[key])
    tickets, groups, last = [], [], {}
    for run in runs:
        if len({venue[i] for i in run}) > 1:
            tickets.append((run, "sweep"))
        elif len({price[i] for i in run}) > 1:
            tickets.append((run, "left"))
        else:
            key = (contract[run[0]], side[run[0]], venue[run[0]])
            group = last.get(key)
            near = group is not None and time[run[0]] - time[group[-1][-1]] <= 60 * SECOND
            if near and price[group[-1][-1]] == price[run[0]]:
                group.append(run)
            else:
                last[key] = [run]
                groups.append(last[key])
    for group in groups:
        fills = sorted(i for run in group for i in run)
        if len(fills) >= 3:
            tickets.append((fills, "split"))
        else:
            tickets.extend((run, "left") for run in group)
    out = []
    for fills, kind in sorted(tickets, key=lambda one: one[0][0]):
        if kind == "left":
            i = fills[0]
            large = contracts[i] >= 250 or price[i] * contracts[i] * multiplier >= 250_000
            kind = "block" if len(fills) == 1 and large else "single"
        out.append((fills, kind))
    return out


def check(time, contract, side, venue, price, contracts):
    columns = [np.array(c) for c in (time, contract, side, venue, price, contracts)]
    columns[2], columns[3] = columns[2].astype(np.int8), columns[3].astype(np.int16)
    tickets, of_fill = make_tickets(*columns)
    wanted = plain(*(c.tolist() for c in columns))
    assert [KINDS[kind] for kind in tickets.kind] == [kind for _, kind in wanted]
    assert len(wanted) == tickets.first.size
    for place, (fills, _) in enumerate(wanted):
        assert np.flatnonzero(of_fill == place).tolist() == fills
        assert (tickets.contract[place], tickets.side[place]) == (contract[fills[0]], side[fills[0]])
        assert (tickets.first[place], tickets.last[place]) == (time[fills[0]], time[fills[-1]])
        assert tickets.fills[place] == len(fills)
        assert tickets.venues[place] == len({venue[i] for i in fills})
        assert tickets.contracts[place] == sum(contracts[i] for i in fills)
        paid = sum(price[i] * contracts[i] for i in fills)
        assert tickets.premium[place] == pytest.approx(100 * paid)
        assert tickets.price[place] == pytest.approx(paid / sum(contracts[i] for i in fills))
    return [kind for _, kind in wanted]


gaps = st.sampled_from([0, 1, 499 * MS, 500 * MS, 500 * MS + 1, 59 * SECOND, 60 * SECOND, 60 * SECOND + 1])
fill = st.tuples(
    gaps, st.sampled_from([7, 8, 10**12]), st.sampled_from([-1, 0, 1]), st.integers(1, 3),
    st.sampled_from([1.0, 1.05, 12.5]), st.sampled_from([1, 249, 250, 200]),
)  # fmt: skip


@given(st.lists(fill, max_size=40))
def test_as_a_plain_loop(fills):
    gap, *rest = [list(column) for column in zip(*fills, strict=True)] or [[] for _ in range(6)]
    check(np.cumsum(np.array(gap, dtype=np.int64)).tolist(), *rest)


@given(st.lists(fill, min_size=3, max_size=40), st.integers(0, 2**32))
def test_as_a_plain_loop_in_one_contract(fills, seed):
    gap, *rest = [list(column) for column in zip(*fills, strict=True)]
    rng = np.random.default_rng(seed)
    alike = [[1] * len(gap), [1] * len(gap), rng.integers(1, 3, len(gap)).tolist(), *rest[3:]]
    check(np.cumsum(np.array(gap, dtype=np.int64)).tolist(), *alike)


def one_contract(times, venues, prices=None, contracts=None):
    n = len(times)
    return check(times, [1] * n, [1] * n, venues, prices or [1.0] * n, contracts or [5] * n)


def test_half_a_second_makes_a_run_and_a_nanosecond_more_does_not():
    assert one_contract([0, 500 * MS], [1, 2]) == ["sweep"]
    assert one_contract([0, 500 * MS + 1], [1, 2]) == ["single", "single"]
    assert one_contract([0, 500 * MS, 1000 * MS], [1, 1, 2]) == ["sweep"], "each against the one before it"


def test_a_minute_makes_a_group_and_a_nanosecond_more_does_not():
    assert one_contract([0, 60 * SECOND, 120 * SECOND], [1, 1, 1]) == ["split"]
    assert one_contract([0, 60 * SECOND, 120 * SECOND + 1], [1, 1, 1]) == ["single"] * 3
    # From the last fill of the run before, not from its first.
    assert one_contract([0, 500 * MS, 60 * SECOND + 500 * MS], [1, 1, 1]) == ["split"]


def test_a_split_has_three_fills_of_one_venue_and_price():
    at = [0, SECOND, 2 * SECOND]
    assert one_contract(at[:2], [1, 1]) == ["single"] * 2
    assert one_contract([0, 0, 0], [1, 1, 1]) == ["split"], "also a single run"
    assert one_contract([0, 0, 0], [1, 1, 1], [1.0, 1.05, 1.0]) == ["single"], "a run of several prices is one ticket"
    assert one_contract(at, [1, 2, 1]) == ["single"] * 3
    assert one_contract(at, [1, 1, 1], [1.0, 1.0, 1.05]) == ["single"] * 3
    five = [i * SECOND for i in range(5)]
    assert one_contract(five, [1, 2, 2, 1, 2]) == ["single", "split", "single"], "each venue has a group of its own"
    assert one_contract([*at, 3 * SECOND], [1, 2, 1, 1]) == ["split", "single"], (
        "another venue between does not part them"
    )
    four = [*at, 3 * SECOND]
    assert one_contract(four, [1] * 4, [1.0, 1.05, 1.0, 1.0]) == ["single"] * 4, "another price between does"
    assert one_contract([0, 100 * SECOND, 100 * SECOND + 1, 130 * SECOND], [1, 2, 3, 1]) == [
        "single",
        "sweep",
        "single",
    ]


def test_a_block_is_one_fill_of_250_contracts_or_250_000():
    assert one_contract([0], [1], contracts=[250]) == ["block"]
    assert one_contract([0], [1], contracts=[249]) == ["single"]
    assert one_contract([0], [1], prices=[12.5], contracts=[200]) == ["block"]
    assert one_contract([0], [1], prices=[12.49], contracts=[200]) == ["single"]
    assert one_contract([0, 0], [1, 1], contracts=[250, 250]) == ["single"], "two fills are no block"


def test_the_multiplier_of_each_fill_counts():
    given = (np.array([0, SECOND]), np.array([1, 2]), np.ones(2, np.int8), np.ones(2, np.int16), np.array([2.0, 2.0]))
    tickets, _ = make_tickets(*given, np.array([10, 10]), multiplier=np.array([100.0, 10.0]))
    assert tickets.premium.tolist() == [2000.0, 200.0]
    large, _ = make_tickets(*given, np.array([10, 10]), multiplier=np.array([100.0, 12_500.0]))
    assert [KINDS[kind] for kind in large.kind] == ["single", "block"]


def test_fills_out_of_order_or_of_different_lengths_are_refused():
    columns = [
        np.array([5, 4]),
        np.ones(2, np.int64),
        np.ones(2, np.int8),
        np.ones(2, np.int16),
        np.ones(2),
        np.ones(2, np.int64),
    ]
    with pytest.raises(ValueError, match="the one at 1 comes before"):
        make_tickets(*columns)
    columns[0] = np.array([1])
    with pytest.raises(ValueError, match="same length"):
        make_tickets(*columns)


def test_sides_of_the_quote():
    nan = float("nan")
    for price, bid, ask, side in (
        (1.10, 1.00, 1.10, 1), (1.20, 1.00, 1.10, 1), (1.00, 1.00, 1.10, -1), (0.95, 1.00, 1.10, -1),
        (1.06, 1.00, 1.10, 1), (1.04, 1.00, 1.10, -1), (1.05, 1.00, 1.10, 0),
        (1.05, 1.10, 1.00, 0), (1.08, 1.10, 1.00, 0), (1.05, nan, 1.10, 0), (1.05, 1.00, nan, 0), (nan, 1.00, 1.10, 0),
        (1.00, 1.00, 1.00, 0), (1.01, 1.00, 1.00, 1), (0.99, 1.00, 1.00, -1), (0.05, 0.0, 0.05, 1), (0.0, 0.0, 0.05, -1),
    ):  # fmt: skip
        assert trade_side(np.array([price]), np.array([bid]), np.array([ask]))[0] == side, (price, bid, ask)


def test_exactly_mid_is_mid_for_every_tick():
    bid = np.round(np.arange(0.05, 40.0, 0.05), 2)
    for width in (0.02, 0.1, 0.3, 1.1):
        ask = np.round(bid + width, 2)
        assert (trade_side(np.round(bid + width / 2, 3), bid, ask) == 0).all()
        assert (trade_side(np.round(bid + width / 2 + 0.01, 3), bid, ask) == 1).all()
        assert (trade_side(np.round(bid + width / 2 - 0.01, 3), bid, ask) == -1).all()
